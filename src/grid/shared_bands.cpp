#include "shared_bands.hpp"

#include <algorithm>

#include "katoptra/base/run_options.hpp"

namespace katoptra {

void share_bands(const Grid& grid, Planes planes, std::int64_t halo, const RunOptions& options, const BandPass& pass) {
  if (!work_is_shared()) {
    map_bands(grid, planes, halo, options, pass.map, [&](const std::shared_ptr<void>& p) { pass.reduce(p); });
    return;
  }
  // Bands that are the same on machines with more cores and with fewer.
  const Frame& f = grid.frame();
  RunOptions of_all = options;
  of_all.threads = 16;
  const std::int64_t rows = band_rows(f.cols(), of_all);
  const auto bands = static_cast<std::size_t>((f.rows() + rows - 1) / rows);
  share_ordered({.n = bands,
                 .in_flight = static_cast<std::size_t>(2 * thread_count(options)),
                 .to_all = true,
                 .options = options,
                 .make =
                     [&](std::size_t i) {
                       const std::int64_t row = static_cast<std::int64_t>(i) * rows;
                       const Window band{0, row, f.cols(), std::min(rows, f.rows() - row)};
                       return pass.map(grid.read({0, row - halo, band.cols, band.rows + 2 * halo}, planes), band);
                     },
                 .place = [&](std::size_t, const std::shared_ptr<void>& p) { pass.reduce(p); },
                 .pack =
                     [&](const std::shared_ptr<void>& p) {
                       Packer to;
                       pass.pack(p, to);
                       return std::move(to.bytes);
                     },
                 .unpack =
                     [&](std::span<const std::uint8_t> bytes) {
                       Unpacker from(bytes);
                       return pass.unpack(from);
                     }});
}

}  // namespace katoptra
