#include "katoptra/water/flow.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "katoptra/base/parallel.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "flood.hpp"
#include "flow_planes.hpp"
#include "land.hpp"

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
    const std::vector<std::uint8_t> direction = planes_->directions(w);
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

std::vector<float> areas_of(const FlowPlanes& p, const Window& w) { return p.area.read(w, 0); }

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
  auto planes = std::make_shared<FlowPlanes>(surface.frame(), surface.info().name, edge, options.run);
  const bool has_dry_cells = options.sea || options.voids == AtVoids::RunsAround;
  out.report_.level = find_directions(land.surface, sinks, *planes, options.run, has_dry_cells ? &surface : nullptr);
  find_sums(*planes, out.report_, options.run);
  out.planes_ = std::move(planes);
  return out;
}

Grid Flow::direction() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::FlowDirection, "", SampleType::UInt8), planes_,
                    [](const FlowPlanes& p, const Window& w) { return p.directions(w); });
}

Grid Flow::upstream_cells() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::Upstream, "cells", SampleType::Float32), planes_,
                    [](const FlowPlanes& p, const Window& w) { return p.cells.read(w, 0); });
}

Grid Flow::upstream_area() const {
  return plane_grid(surface_, flow_info(surface_, QuantityKind::Upstream, "m2", SampleType::Float32), planes_,
                    areas_of);
}

Grid upstream_plane(const Flow& flow, std::shared_ptr<const ScratchPlane<std::int64_t>> amounts, double step,
                    const std::string& unit) {
  return plane_grid(flow.surface(), flow_info(flow.surface(), QuantityKind::Upstream, unit, SampleType::Float32),
                    FlowAccess::shared(flow), [amounts = std::move(amounts), step](const FlowPlanes&, const Window& w) {
                      std::vector<double> out;
                      for (const std::int64_t a : amounts->read(w, 0)) out.push_back(static_cast<double>(a) * step);
                      return out;
                    });
}

namespace {

// Area over a metre of contour, and the tangent of the slope, as wetness or as power.
class AreaAndSlope final : public GridSource {
 public:
  AreaAndSlope(Grid area, Grid steep, GridInfo info, bool wetness)
      : area_(std::move(area)), steep_(std::move(steep)), info_(std::move(info)), wetness_(wetness) {
    const GroundSpacing s = ground_spacing(info_.frame);
    width_ = std::sqrt(s.x.metres() * s.y.metres());
  }
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    constexpr double kLevel = 0.001;
    area_.read_into(out);
    const Block steep = steep_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        float& v = out.row(r)[c];
        const double tangent = std::max(kLevel, static_cast<double>(steep.at(c, r))),
                     a = static_cast<double>(v) / width_;
        if (!std::isnan(v)) v = static_cast<float>(wetness_ ? std::log(a / tangent) : a * tangent);
      }
  }

 private:
  Grid area_, steep_;
  GridInfo info_;
  double width_ = 1;
  bool wetness_;
};

Grid with_slope(const Flow& flow, const UpstreamOptions& o, bool wet) {
  GridInfo info = flow_info(flow.surface(), wet ? QuantityKind::Wetness : QuantityKind::Upstream, wet ? "" : "m2/m",
                            SampleType::Float32);
  return Grid(
      std::make_shared<AreaAndSlope>(upstream(flow, o), slope(flow.surface(), SlopeAs::Ratio), std::move(info), wet));
}

}  // namespace

Grid wetness(const Flow& flow, const UpstreamOptions& options) { return with_slope(flow, options, true); }
Grid stream_power(const Flow& flow, const UpstreamOptions& options) { return with_slope(flow, options, false); }

}  // namespace katoptra
