// The 16-bit height map: a grey picture whose samples are heights in equal steps. A shade is the 8-bit picture it is.
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <optional>

#include "katoptra/base/error.hpp"

#include "base/png_stream.hpp"
#include "formats/told_beside.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// The smallest of 1, 2 or 5 times a power of ten that is not below `least`.
double round_step(double least) {
  const double power = std::pow(10.0, std::floor(std::log10(least)));
  for (double k : {1.0, 2.0, 5.0, 10.0})
    if (k * power >= least * (1 - 1e-12)) return k * power;
  return 10 * power;
}

class PngWriter final : public RowWriter {
 public:
  PngWriter(const fs::path& path, const GridInfo& info, double lowest, double highest, const WriteOptions& options)
      : path_(path),
        info_(info),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        beside_(options),
        picture_(info.quantity.kind == QuantityKind::Shade) {
    constexpr double kSteps = 65534;  // sample 0 is a void
    if (!(lowest <= highest)) lowest = highest = 0;
    const bool whole = is_integer(info.type) && highest - lowest < kSteps;
    if (picture_) lowest = 1;
    step_ = whole || picture_ ? 1 : round_step(std::max(highest - lowest, 1e-6) / (kSteps - 1));
    zero_ = (std::floor(lowest / step_) - 1) * step_;
    beside_.add(path_.string() + ".json", scale_beside(info_, zero_, step_));
    png_.emplace(
        PngForm{.cols = info.frame.cols(),
                .rows = info.frame.rows(),
                .depth = picture_ ? 8 : 16,
                .colours = PNG_COLOR_TYPE_GRAY,
                .level = 3},
        [this](std::span<const std::uint8_t> bytes) {
          sink_->write_at(at_, bytes);
          at_ += bytes.size();
        },
        path.string());
  }

  std::vector<std::uint8_t> encode(const Block& rows) const override {
    const auto n = static_cast<std::size_t>(rows.window().cells());
    std::vector<std::uint8_t> out(n * sample_bytes());
    for (std::size_t i = 0; i < n; ++i) {
      const float v = rows.row(0)[i];
      const double sample = std::isnan(v) ? 0
                                          : std::clamp(std::nearbyint((static_cast<double>(v) - zero_) / step_), 1.0,
                                                       picture_ ? 255.0 : 65535.0);
      const auto s = static_cast<std::uint16_t>(sample);
      if (picture_) {
        out[i] = static_cast<std::uint8_t>(s);
        continue;
      }
      std::memcpy(out.data() + 2 * i, &s, 2);
    }
    return out;
  }
  void place(const Window& band, std::span<const std::uint8_t> bytes) override {
    for (std::int64_t r = 0; r < band.rows; ++r)
      png_->row(bytes.data() + static_cast<std::size_t>(r * band.cols) * sample_bytes());
  }
  void finish(WriteReport& report) override {
    png_->finish();
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
    report.format = picture_ ? "PNG picture" : "PNG height map";
    report.compression = "deflate";
    report.type = picture_ ? SampleType::UInt8 : SampleType::UInt16;
    report.void_value = 0;
    if (info_.quantity.kind != QuantityKind::Height)
      report.info.notes.push_back("for a picture with a legend and a scale: katoptra map");
    report.info.notes.push_back(
        fmt::format("value = {:g} + sample x {:g}, rounded to that step; sample 0 is a void; the "
                    "scale is in {}",
                    zero_, step_, path_.filename().string() + ".json"));
  }

 private:
  std::size_t sample_bytes() const { return picture_ ? 1 : 2; }
  fs::path path_;
  GridInfo info_;
  std::unique_ptr<ByteSink> sink_;
  FilesBeside beside_;
  bool picture_;
  double zero_ = 0, step_ = 1;
  std::uint64_t at_ = 0;
  std::optional<PngStream> png_;
};

}  // namespace

WriteReport write_png(const Grid& grid, const fs::path& path, const WriteOptions& options) {
  const StoredAs as = stored_plainly(grid.info(), options, path.string());
  const auto [lowest, highest] = extremes_of(grid, options.run);
  return write_rows(grid, path, options, as, std::make_unique<PngWriter>(path, grid.info(), lowest, highest, options));
}

}  // namespace katoptra
