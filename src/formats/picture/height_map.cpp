#include "katoptra/formats/height_map.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <optional>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/surface/reproject.hpp"

#include "base/png_stream.hpp"
#include "base/text.hpp"
#include "formats/told_beside.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// So many samples, square on the ground, as large as fits into the frame, in its middle.
Frame square_frame(const Frame& f, std::int64_t cols, std::int64_t rows) {
  const GroundSpacing s = ground_spacing(f);
  const double mx = s.x.metres() / f.cell().x, my = s.y.metres() / f.cell().y;  // metres in a unit
  const Bounds b = f.bounds();
  const auto n = static_cast<double>(cols), m = static_cast<double>(rows);
  const double side = std::min(b.width() * mx / n, b.height() * my / m);
  const double x = side / mx, y = side / my;
  return {f.crs(), b.centre().x - n / 2 * x, b.centre().y + m / 2 * y, {x, y}, cols, rows};
}

double sample_of(float z, const HeightScale& scale) {
  if (std::isnan(z)) return scale.sea.value_or(0);
  const auto h = static_cast<double>(z);
  if (scale.sea && h <= 0) return *scale.sea;
  const double share = scale.high > scale.low ? (h - scale.low) / (scale.high - scale.low) : 0;
  return std::clamp(scale.first + share * (scale.last - scale.first), 0.0, scale.last);
}

class Samples {
 public:
  Samples(const fs::path& path, const Frame& frame, const HeightMapOptions& options)
      : depth_(options.depth), sink_(create_file(path, {.overwrite = options.overwrite})) {
    if (lower_extension(path) == ".png")
      png_.emplace(
          PngForm{.cols = frame.cols(), .rows = frame.rows(), .depth = depth_, .colours = PNG_COLOR_TYPE_GRAY},
          [this](std::span<const std::uint8_t> bytes) { put(bytes); }, path.string());
  }

  void row(const float* z, std::int64_t n, const HeightScale& scale) {
    bytes_.clear();
    for (std::int64_t c = 0; c < n; ++c) {
      if (depth_ == 32) {
        const float v = std::isnan(z[c])         ? static_cast<float>(scale.sea.value_or(scale.low))
                        : scale.sea && z[c] <= 0 ? static_cast<float>(*scale.sea)
                                                 : z[c];
        add(std::bit_cast<std::uint32_t>(std::clamp(v, static_cast<float>(scale.low), static_cast<float>(scale.high))),
            4);
      } else {
        add(static_cast<std::uint32_t>(std::lround(sample_of(z[c], scale))), depth_ / 8);
      }
    }
    if (png_)
      png_->row(bytes_.data());
    else
      put(bytes_);
  }
  std::uint64_t finish() {
    if (png_) png_->finish();
    sink_->commit();
    return at_;
  }

 private:
  void add(std::uint32_t v, int n) {
    for (int i = 0; i < n; ++i) bytes_.push_back(static_cast<std::uint8_t>(v >> (8 * i)));
  }
  void put(std::span<const std::uint8_t> bytes) {
    sink_->write_at(at_, bytes);
    at_ += bytes.size();
  }

  int depth_;
  std::unique_ptr<ByteSink> sink_;
  std::uint64_t at_ = 0;
  std::vector<std::uint8_t> bytes_;
  std::optional<PngStream> png_;
};

void require_sense(const fs::path& path, const Grid& surface, const HeightMapOptions& o) {
  const std::string ending = lower_extension(path), file = path.string();
  if (ending != ".png" && ending != ".raw")
    throw Error(ErrorCode::Unsupported, fmt::format("height maps are not written as '{}'", ending), file,
                "give a name that ends in .png or .raw");
  if (o.depth != 8 && o.depth != 16 && o.depth != 32)
    throw Error(ErrorCode::BadArgument, fmt::format("samples of {} bits are not possible", o.depth), file,
                "take 8, 16 or 32");
  if (o.depth == 32 && ending == ".png")
    throw Error(ErrorCode::Unsupported, "PNG has no samples of 32 bits", file, "take 16 bits, or write .raw");
  if ((o.cols == 0) != (o.rows == 0) || o.cols < 0 || o.rows < 0 || o.cols == 1 || o.rows == 1 ||
      std::max(o.cols, o.rows) > kWidestHeightMap)
    throw Error(ErrorCode::BadArgument, fmt::format("a height map of {} x {} samples is not possible", o.cols, o.rows),
                file, fmt::format("take 2 to {} either way", kWidestHeightMap));
  if (o.low && o.high && !(*o.low < *o.high))
    throw Error(ErrorCode::BadArgument, fmt::format("a range from {:g} to {:g} is none", *o.low, *o.high), file,
                "give the lower height first");
  const double most = o.depth == 8 ? 255 : 65535;
  if (o.sea && o.depth != 32 && (*o.sea < 0 || *o.sea >= most || *o.sea != std::floor(*o.sea)))
    throw Error(ErrorCode::BadArgument, fmt::format("{:g} is no grey that leaves one for the land", *o.sea), file,
                fmt::format("take a whole number from 0 to {:g}", most - 1));
  if (is_coded(surface.quantity().kind))
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, no heights", name_of(surface.quantity().kind)),
                surface.info().name, "give the surface it was made from");
}

}  // namespace

HeightMapReport write_height_map(const Grid& surface, const fs::path& path, const HeightMapOptions& options) {
  require_sense(path, surface, options);
  const Frame& f = surface.frame();
  HeightMapReport report{
      .frame = square_frame(f, options.cols ? options.cols : f.cols(), options.rows ? options.rows : f.rows())};
  report.sample = ground_spacing(report.frame).x;
  report.cut =
      1 - report.frame.bounds().width() * report.frame.bounds().height() / (f.bounds().width() * f.bounds().height());
  const bool same = report.frame.cols() == f.cols() && report.frame.rows() == f.rows() && report.cut < 1e-9;
  if (same) {
    report.frame = f;
    report.cut = 0;
  }
  const Grid samples = same ? surface : reproject(surface, report.frame, Resampling::Automatic);
  // Both ends given: the surface need not be looked through for them.
  std::pair<double, double> ends{options.low.value_or(0), options.high.value_or(0)};
  if (!options.high || !(options.low || options.sea)) ends = extremes_of(samples, options.run);
  const double high = ends.second;
  if (!(ends.first <= high))
    throw Error(ErrorCode::BadFile, "holds nothing but voids", surface.info().name, "check the area");
  report.low = options.low.value_or(options.sea ? 0 : ends.first);
  report.high = options.high.value_or(std::max(high, report.low));
  if (report.high < report.low)
    throw Error(ErrorCode::BadArgument, fmt::format("the surface ends at {:g}, below the range", high),
                surface.info().name, "give the range both ends");
  const HeightScale scale{.low = options.depth == 32 && options.sea ? std::min(report.low, *options.sea) : report.low,
                          .high = report.high,
                          .first = options.sea && options.depth != 32 ? *options.sea + 1 : 0,
                          .last = options.depth == 8 ? 255.0 : 65535.0,
                          .sea = options.sea};
  report.scale = fs::path(path.string() + ".json");
  const auto beside = create_file(report.scale, {.overwrite = options.overwrite});
  const std::string told = scale_beside(surface.quantity(), report, options, scale);
  beside->write_at(0, std::span(reinterpret_cast<const std::uint8_t*>(told.data()), told.size()));
  Samples out(path, report.frame, options);
  for_each_band(samples, Planes::Values, options.run, [&](const Block& b) {
    for (std::int64_t r = 0; r < b.window().rows; ++r) {
      report.voids += std::count_if(b.row(r), b.row(r) + b.window().cols, [](float z) { return std::isnan(z); });
      out.row(b.row(r), b.window().cols, scale);
    }
  });
  beside->commit();
  report.bytes = out.finish();
  return report;
}

}  // namespace katoptra
