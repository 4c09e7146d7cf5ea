#include "katoptra/water/flow.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "katoptra/terrain/derivatives.hpp"

#include "flood.hpp"
#include "flow_planes.hpp"

namespace katoptra {
namespace {

GridInfo flow_info(const Grid& surface, QuantityKind kind, const std::string& unit, SampleType type) {
  GridInfo info = surface.info();
  info.quantity = {.kind = kind, .other_unit = unit, .heights = {}};
  info.type = type;
  info.file_void.reset();
  return info;
}

// A plane of the flow as a grid; void where the direction is.
template <class Value>
class PlaneSource final : public GridSource {
 public:
  PlaneSource(Grid surface, GridInfo info, std::shared_ptr<const FlowPlanes> planes, Value value)
      : surface_(std::move(surface)), info_(std::move(info)), planes_(std::move(planes)), value_(std::move(value)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const std::vector<std::uint8_t> direction = planes_->direction.read(w, kVoidCell);
    const auto values = value_(*planes_, w);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const auto i = static_cast<std::size_t>(r * w.cols + c);
        out.row(r)[c] = direction[i] == kVoidCell ? kVoid : static_cast<float>(values[i]);
      }
    if (out.origin) {
      const Block b = surface_.read(w, Planes::ValuesAndOrigin);
      for (std::int64_t r = 0; r < w.rows; ++r) std::copy_n(b.origin_row(r), w.cols, out.origin_row(r));
    }
  }

 private:
  Grid surface_;
  GridInfo info_;
  std::shared_ptr<const FlowPlanes> planes_;
  Value value_;
};

template <class Value>
Grid plane_grid(const Grid& surface, GridInfo info, std::shared_ptr<const FlowPlanes> planes, Value value) {
  return Grid(std::make_shared<PlaneSource<Value>>(surface, std::move(info), std::move(planes), std::move(value)));
}

std::vector<double> areas_of(const FlowPlanes& p, const Window& w) {
  const std::vector<std::int64_t> steps = p.area.read(w, 0);
  std::vector<double> out;
  for (const std::int64_t s : steps) out.push_back(static_cast<double>(s) * p.area_step);
  return out;
}

// Area over a metre of contour, and the tangent of the slope, as wetness or as power.
struct AreaAndSlope {
  Grid slope;
  double width;
  bool wetness;
  std::vector<double> operator()(const FlowPlanes& p, const Window& w) const {
    constexpr double kLevel = 0.001;
    std::vector<double> out = areas_of(p, w);
    const Block steep = slope.read(w);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        double& a = out[static_cast<std::size_t>(r * w.cols + c)];
        const double tangent = std::max(kLevel, static_cast<double>(steep.at(c, r)));
        a = wetness ? std::log(a / width / tangent) : a / width * tangent;
      }
    return out;
  }
};

}  // namespace

Flow flow(const Grid& surface, const DrainOptions& options) {
  return FlowAccess::in_tiles(surface, options, Tiling::kEdge);
}

Flow FlowAccess::in_tiles(const Grid& surface, const DrainOptions& options, std::int64_t edge) {
  Drained land = drained(surface, options);
  Flow out;
  out.surface_ = land.surface;
  out.drained_ = land.report;
  std::vector<Sink> sinks;
  for (const Depression& d : land.kept) sinks.push_back({d.col, d.row});
  auto planes = std::make_shared<FlowPlanes>(surface.frame(), surface.info().name, edge);
  out.report_.level = find_directions(land.surface, sinks, *planes, options.run);
  find_sums(*planes, out.report_, options.run);
  out.planes_ = std::move(planes);
  return out;
}

Grid Flow::direction() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::FlowDirection, "", SampleType::UInt8), planes_,
                    [](const FlowPlanes& p, const Window& w) { return p.direction.read(w, kVoidCell); });
}

Grid Flow::upstream_cells() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::Upstream, "cells", SampleType::Float32), planes_,
                    [](const FlowPlanes& p, const Window& w) { return p.cells.read(w, 0); });
}

Grid Flow::upstream_area() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::Upstream, "m2", SampleType::Float32), planes_,
                    areas_of);
}

namespace {

double contour_width(const Frame& f) {
  const GroundSpacing s = ground_spacing(f);
  return std::sqrt(s.x.metres() * s.y.metres());
}

}  // namespace

Grid Flow::wetness() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::Wetness, "", SampleType::Float32), planes_,
                    AreaAndSlope{slope(surface_, SlopeAs::Ratio), contour_width(surface_.frame()), true});
}

Grid Flow::stream_power() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::Upstream, "m2/m", SampleType::Float32), planes_,
                    AreaAndSlope{slope(surface_, SlopeAs::Ratio), contour_width(surface_.frame()), false});
}

}  // namespace katoptra
