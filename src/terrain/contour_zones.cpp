// Where a contour may lie: the band of what is no further from the level than the uncertainty allows.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "levels_of.hpp"

namespace katoptra {
namespace {

// Heights above a level in units of their uncertainty; where that is nothing, far off on their side.
class InDeviations final : public GridSource {
 public:
  InDeviations(Grid surface, GridInfo info, double level)
      : surface_(std::move(surface)), info_(std::move(info)), level_(level) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    constexpr double kFarOff = 1e6;
    const Block in = surface_.read(out.window, Planes::ValuesAndUncertainty);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const double above = static_cast<double>(in.at(c, r)) - level_,
                     u = static_cast<double>(in.uncertainty_row(r)[c]);
        out.row(r)[c] = std::isnan(above) || std::isnan(u)
                            ? kVoid
                            : static_cast<float>(above == 0 ? 0.0 : std::clamp(above / u, -kFarOff, kFarOff));
        if (out.origin) out.origin_row(r)[c] = 0;
      }
  }

 private:
  Grid surface_;
  GridInfo info_;
  double level_;
};

// The lowest and the highest that the surface may be anywhere.
std::pair<float, float> possible_range(const Grid& surface, const RunOptions& run) {
  float low = INFINITY, high = -INFINITY;
  for_each_band(surface, Planes::ValuesAndUncertainty, run, [&](const Block& b) {
    for (std::int64_t r = 0; r < b.window().rows; ++r)
      for (std::int64_t c = 0; c < b.window().cols; ++c) {
        const float z = b.at(c, r), reach = static_cast<float>(kTwoSided95) * b.uncertainty_row(r)[c];
        if (std::isnan(z) || std::isnan(reach)) continue;
        low = std::min(low, z - reach);
        high = std::max(high, z + reach);
      }
  });
  return {low, high};
}

std::vector<double> levels_that_may_meet(const Grid& surface, const ContourOptions& options) {
  const Levels levels = levels_of(surface, options);
  const auto [low, high] = possible_range(surface, options.run);
  if (!(low <= high)) return {};
  const float ends[2] = {low, high};
  std::int32_t steps[2] = {};
  const bool near = levels.steps(ends, 2, steps);
  if (!near || std::int64_t{steps[1]} - steps[0] > kMostContourZones)
    throw Error(ErrorCode::TooLarge,
                fmt::format("zones of more than {} levels, each of which takes readings of its own", kMostContourZones),
                surface.info().name, "take a longer interval, or a few levels");
  std::vector<double> out;
  for (std::int32_t k = steps[0]; k <= steps[1]; ++k)
    if (const double level = levels.level(k);
        std::isfinite(level) && level >= static_cast<double>(low) && level <= static_cast<double>(high))
      out.push_back(level);
  return out;
}

}  // namespace

std::vector<ContourZone> contour_zones(const Grid& surface, const ContourOptions& options) {
  if (!surface.carries_uncertainty())
    throw Error(ErrorCode::BadArgument, "does not say how sure it is, so nobody can say how far a line may lie off",
                surface.info().name, "state it with --uncertainty, for instance 0.1m");
  GridInfo info = surface.info();
  info.quantity = {.kind = QuantityKind::Difference, .unit = LengthUnit::Metre, .unit_known = true};
  const ContourOptions within{.levels = {Length::metres(-kTwoSided95), Length::metres(kTwoSided95)},
                              .run = options.run};
  std::vector<ContourZone> out;
  for (const double level : levels_that_may_meet(surface, options))
    for (ContourBand& band : contour_bands(Grid(std::make_shared<InDeviations>(surface, info, level)), within))
      if (std::isfinite(band.from) && std::isfinite(band.to)) out.push_back({level, std::move(band.shape)});
  return out;
}

Layer zone_layer(const std::vector<ContourZone>& zones, const Grid& surface) {
  Layer layer{.name = "zones", .crs = surface.frame().crs(), .features = {}, .unit = surface.quantity().unit};
  for (const ContourZone& z : zones)
    layer.features.push_back(
        {z.shape, {{"level", z.level}, {"unit", unit_name(surface.quantity())}, {"confidence", std::int64_t{95}}}});
  return layer;
}

}  // namespace katoptra
