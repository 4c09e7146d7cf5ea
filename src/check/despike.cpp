#include "katoptra/check/despike.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "check/detectors/spikes.hpp"
#include "moments.hpp"

namespace katoptra {
namespace {

// How far a cell stands off the middle of its second neighbours, on the way where that is less.
float departure(const Block& b, std::int64_t c, std::int64_t r) {
  const float z = b.at(c, r), x = std::abs(z - (b.at(c - 2, r) + b.at(c + 2, r)) * 0.5f),
              y = std::abs(z - (b.at(c, r - 2) + b.at(c, r + 2)) * 0.5f);
  return x == x ? (y == y ? std::min(x, y) : x) : y;
}

class DespikedSource final : public GridSource {
 public:
  DespikedSource(Grid input, GridInfo info, const SpikeRule& rule)
      : input_(std::move(input)), info_(std::move(info)), times_(rule.times) {
    least_ = rule.least.in(info_.quantity.unit);
    usual_ = rule.usual.in(info_.quantity.unit);
  }
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Block b = input_.read(w.grown(3), out.planes());
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        if (is_spike(b, c + 3, r + 3)) {
          out.blank(c, r);
          continue;
        }
        out.row(r)[c] = b.at(c + 3, r + 3);
        if (out.origin) out.origin_row(r)[c] = b.origin_row(r + 3)[c + 3];
        if (out.uncertainty) out.uncertainty_row(r)[c] = b.uncertainty_row(r + 3)[c + 3];
      }
  }

 private:
  bool is_spike(const Block& b, std::int64_t c, std::int64_t r) const {
    if (!(static_cast<double>(departure(b, c, r)) > 0.5 * least_)) return false;
    const auto f = fit_ring(b, c, r, least_, times_);
    return f && std::abs(f->off) >= times_ * usual_;
  }

  Grid input_;
  GridInfo info_;
  double times_, least_ = 0, usual_ = 0;
};

}  // namespace

SpikeRule spike_rule(const Grid& grid, const Thresholds& thresholds, const RunOptions& run) {
  constexpr std::int64_t kBlock = 64, kBlocks = 24;
  const Frame& f = grid.frame();
  std::vector<Window> blocks;
  const std::int64_t across = std::min(kBlocks, (f.cols() + kBlock - 1) / kBlock),
                     down = std::min(kBlocks, (f.rows() + kBlock - 1) / kBlock);
  for (std::int64_t r = 0; r < down; ++r)
    for (std::int64_t c = 0; c < across; ++c)
      blocks.push_back(Window{c * f.cols() / across, r * f.rows() / down, kBlock, kBlock}.intersected(f.window()));
  std::vector<std::vector<double>> parts(blocks.size());
  parallel_for(blocks.size(), run, [&](std::size_t i) {
    const Block b = grid.read(blocks[i].grown(2));
    for (std::int64_t r = 2; r < blocks[i].rows + 2; r += 2)
      for (std::int64_t c = 2; c < blocks[i].cols + 2; c += 2)
        if (const float d = departure(b, c, r); d > 0) parts[i].push_back(static_cast<double>(d));
  });
  std::vector<double> all;
  for (const auto& p : parts) all.insert(all.end(), p.begin(), p.end());
  const double usual = tells_of_noise(std::ssize(all)) ? kNmadFactor * median_of(all) : 0;
  return {thresholds.spike, thresholds.spike_times, Length::of(usual, grid.quantity().unit)};
}

Grid without_spikes(const Grid& grid, const SpikeRule& rule) {
  if (grid.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(grid.quantity().kind)),
                grid.info().name, "spikes are looked for in heights");
  GridInfo info = grid.info();
  const std::string done = fmt::format("spikes of {:g} {} and more made voids", rule.least.in(info.quantity.unit),
                                       symbol(info.quantity.unit));
  info.notes.push_back(fmt::format("{}: {}", info.name, done));
  for (SourceRecord& s : info.sources) s.treatment += (s.treatment.empty() ? "" : ", ") + done;
  return Grid(std::make_shared<DespikedSource>(grid, std::move(info), rule));
}

}  // namespace katoptra
