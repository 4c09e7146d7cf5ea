#include "katoptra/points/gridding.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/grid/cache.hpp"

#include "cached_tiles.hpp"
#include "tile_grids.hpp"

namespace katoptra {
namespace {

constexpr std::pair<const char*, PointMethod> kMethods[] = {{"tin", PointMethod::Tin},
                                                            {"natural", PointMethod::Natural},
                                                            {"lowest", PointMethod::Lowest},
                                                            {"highest", PointMethod::Highest},
                                                            {"mean", PointMethod::Mean},
                                                            {"median", PointMethod::Median},
                                                            {"idw", PointMethod::InverseDistance},
                                                            {"deviation", PointMethod::Deviation},
                                                            {"count", PointMethod::Count}};

bool is_triangulated(PointMethod m) { return m == PointMethod::Tin || m == PointMethod::Natural; }

// Points that a tile should hold: enough to be worth a triangulation, few enough for many tiles at once.
constexpr double kPointsInTile = 200'000;

// What the grids of one run share: tiles are computed once for all methods while the block cache holds them.
class Tiles {
 public:
  explicit Tiles(TilePlan plan) : plan_(std::move(plan)), cached_(plan_.frame.window(), plan_.buckets->tile()) {
    for (const PointStatistic& s : plan_.options.methods) triangulates_ = triangulates_ || is_triangulated(s.method);
  }
  // The points are not needed any more then.
  void make_together(const std::string& name) {
    cached_.make_together(plan_.options.run, name, [&](const Window& tile) { return make(tile); });
    if (cached_.is_made()) plan_.buckets.reset();
  }
  void read(const BlockView& out, std::size_t plane) const {
    cached_.read(
        out, [&](const Window& tile) { return make(tile); },
        [&](const BlockCache::Bytes& bytes, const Window& tile, const BlockView& part) {
          copy(bytes, tile, part, plane);
        });
  }
  const TilePlan& plan() const { return plan_; }

 private:
  // The planes one after the other, then the origins; nothing where all is void.
  BlockCache::Bytes make(const Window& w) const {
    TileCells cells = triangulates_ ? triangulated_tile(plan_, w) : counted_tile(plan_, w);
    if (triangulates_ && !all_triangulated()) mix(w, cells);
    if (cells.is_void()) return {};
    const auto n = static_cast<std::size_t>(w.cells());
    BlockCache::Bytes bytes(n * 4 * (cells.planes.size() + 1), 0);
    for (std::size_t m = 0; m < cells.planes.size(); ++m)
      std::memcpy(bytes.data() + 4 * n * m, cells.planes[m].data(), 4 * n);
    std::memcpy(bytes.data() + 4 * n * cells.planes.size(), cells.origin.data(), 4 * n);
    return bytes;
  }
  bool all_triangulated() const {
    return std::all_of(plan_.options.methods.begin(), plan_.options.methods.end(),
                       [](const PointStatistic& s) { return is_triangulated(s.method); });
  }
  void mix(const Window& w, TileCells& cells) const {
    TileCells counted = counted_tile(plan_, w);
    for (std::size_t m = 0; m < cells.planes.size(); ++m)
      if (!is_triangulated(plan_.options.methods[m].method)) cells.planes[m] = std::move(counted.planes[m]);
  }
  static void copy(const BlockCache::Bytes& bytes, const Window& tile, const BlockView& out, std::size_t plane) {
    const auto n = static_cast<std::size_t>(tile.cells());
    const std::size_t planes = bytes.size() / n / 4 - 1;
    for (std::int64_t r = 0; r < out.window.rows; ++r) {
      const auto from =
          static_cast<std::size_t>((out.window.row + r - tile.row) * tile.cols + out.window.col - tile.col);
      const auto cols = static_cast<std::size_t>(out.window.cols);
      std::memcpy(out.row(r), bytes.data() + 4 * (n * plane + from), 4 * cols);
      if (Origin* o = out.origin_row(r)) {
        std::memcpy(o, bytes.data() + 4 * (n * planes + from), 4 * cols);
        for (std::size_t c = 0; c < cols; ++c)
          if (std::isnan(out.row(r)[c])) o[c] = 0;
      }
    }
  }

  TilePlan plan_;
  CachedTiles cached_;
  bool triangulates_ = false;
};

class PointGrid : public GridSource {
 public:
  PointGrid(std::shared_ptr<const Tiles> tiles, std::size_t plane, GridInfo info)
      : tiles_(std::move(tiles)), plane_(plane), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override { tiles_->read(out, plane_); }

 private:
  std::shared_ptr<const Tiles> tiles_;
  std::size_t plane_;
  GridInfo info_;
};

// How far apart the points would lie if they filled their box, in metres.
double rough_spacing(const PointInfo& info) {
  const Bounds b = info.bounds;
  if (b.empty() || info.count == 0) return 1;
  const GroundScale s = info.crs ? GroundRuler(info.crs).at(b.centre()) : GroundScale{};
  return std::sqrt(std::max(b.width() * s.x * b.height() * s.y, 1e-12) / static_cast<double>(info.count));
}

Frame frame_with(const PointInfo& info, const PointGridding& o, Length cell) {
  if (o.frame) return *o.frame;
  Bounds box = info.bounds;
  if (o.area) {
    if (!info.crs)
      throw Error(ErrorCode::Refused, "has no coordinate reference system, so an area means nothing in it", info.name,
                  "say which it has with --crs");
    box = bounds_of(o.area->in(info.crs).shape());
  }
  if (box.empty() || !std::isfinite(box.width() + box.height()))
    throw Error(ErrorCode::BadFile, "holds no points to make a surface of", info.name, "check the selection");
  // A cloud without a CRS is in metres.
  const CellSize size = info.crs ? cell_for(info.crs, cell, box.centre()) : CellSize{cell.metres(), cell.metres()};
  return Frame::snapped(info.crs, box, size);
}

// Vertices in lattice steps, none further from the next than a quarter of the longest edge, so that the tiles that see
// a part of a line see all of what they need.
std::vector<std::vector<TilePlan::Vertex>> lines_of(const std::vector<Breakline>& lines, const PlaceLattice& l,
                                                    double longest) {
  std::vector<std::vector<TilePlan::Vertex>> out;
  for (const Breakline& b : lines) {
    if (b.heights.size() != b.line.size())
      throw Error(ErrorCode::BadArgument, "a breakline needs a height for each of its points", {}, "give lines with z");
    std::vector<TilePlan::Vertex> v;
    for (std::size_t i = 0; i < b.line.size(); ++i) {
      const TilePlan::Vertex here{l.at_x(b.line[i].x), l.at_y(b.line[i].y), b.heights[i]};
      if (!v.empty()) {
        const TilePlan::Vertex last = v.back();
        const double length = std::hypot(here.x - last.x, here.y - last.y);
        const int pieces = std::clamp(static_cast<int>(std::ceil(4 * length / longest)), 1, 1 << 20);
        for (int k = 1; k < pieces; ++k) {
          const double t = static_cast<double>(k) / pieces;
          v.push_back({last.x + t * (here.x - last.x), last.y + t * (here.y - last.y), last.z + t * (here.z - last.z)});
        }
      }
      v.push_back(here);
    }
    out.push_back(std::move(v));
  }
  return out;
}

}  // namespace

PointStatistic parse_point_method(std::string_view text) {
  for (const auto& [name, method] : kMethods)
    if (text == name) return {method, 50};
  if (text.size() > 1 && text.front() == 'p')
    if (const auto n = parse_number(text.substr(1)); n && *n >= 0 && *n <= 100) return {PointMethod::Percentile, *n};
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no way to make a surface of points", text), {},
              "choose from tin, natural, lowest, highest, mean, median, idw, deviation, count, p0 to p100");
}

std::string name_of(const PointStatistic& s) {
  for (const auto& [name, method] : kMethods)
    if (s.method == method) return name;
  return fmt::format("p{:g}", s.percentile);
}

bool is_estimate(PointMethod m) {
  return is_triangulated(m) || m == PointMethod::Mean || m == PointMethod::Median || m == PointMethod::InverseDistance;
}

Length cell_for_spacing(Length spacing) {
  const double m = spacing.metres();
  if (!(m > 0)) return Length::metres(1);
  const double ten = std::pow(10, std::floor(std::log10(m) + 1e-9));
  for (double step : {1.0, 2.0, 5.0})
    if (step * ten >= m * (1 - 1e-9)) return Length::metres(step * ten);
  return Length::metres(10 * ten);
}

Frame frame_for_points(const PointInfo& info, const PointGridding& o) {
  return frame_with(info, o,
                    o.cell > Length() ? o.cell : cell_for_spacing(Length::metres(std::max(rough_spacing(info), 1e-6))));
}

std::vector<SourceRecord> sources_of(const PointInfo& info, Length spacing) {
  std::vector<SourceRecord> out = info.sources;
  if (out.empty()) out.emplace_back().name = info.name;
  for (SourceRecord& r : out) r.cell = spacing;
  return out;
}

GriddedPoints grid_points(const PointCloud& cloud, const PointGridding& o) {
  PointInfo info = cloud.info();
  const auto count_points = [&] {
    RunOptions quiet = o.run;
    quiet.silent = true;
    // By the points, whatever their header says.
    const PointTally there = tally(relabelled(cloud, [](PointInfo& i) { i.exact = false; }), quiet);
    info.count = there.count;
    info.bounds = there.bounds;
  };
  // A box without width or height, of more than one point, is none.
  const bool no_box = info.count > 1 && !(info.bounds.width() > 0 && info.bounds.height() > 0);
  // The cell follows from the points themselves.
  if (!o.frame && ((!info.exact && !(o.cell > Length())) || no_box)) count_points();
  if (o.methods.empty()) throw Error(ErrorCode::BadArgument, "no method was named", info.name, "name one, such as tin");
  TilePlan plan;
  plan.options = o;
  plan.frame = frame_for_points(info, o);
  const double about = rough_spacing(info);
  const double cells_a_point =
      std::max(1e-9, about * about) /
      std::max(1e-12, ground_spacing(plan.frame).x.metres() * ground_spacing(plan.frame).y.metres());
  std::int64_t tile = o.tile;
  if (tile <= 0) {
    tile = 64;
    while (tile < 1024 && 4.0 * static_cast<double>(tile * tile) < kPointsInTile * cells_a_point) tile *= 2;
  }
  plan.buckets = std::make_unique<PointBuckets>(cloud, plan.frame, tile, o.run);
  const bool own_frame = !o.frame && !o.area;
  if (const std::uint64_t beyond = plan.buckets->beyond(); beyond > 0 || (own_frame && plan.buckets->points() == 0)) {
    info.notes.push_back(beyond == 0
                             ? std::string("no point lies in the box in its header, which is wrong: the points count")
                             : fmt::format("{} of its points lie beyond the box in its header, which is wrong: the "
                                           "points count",
                                           beyond));
    if (own_frame) {
      count_points();
      plan.frame = frame_for_points(info, o);
      plan.buckets = std::make_unique<PointBuckets>(cloud, plan.frame, tile, o.run);
    }
  }
  GriddedPoints out;
  out.points = plan.buckets->inside();
  out.outside = plan.buckets->outside();
  if (plan.buckets->points() == 0)
    throw Error(ErrorCode::BadFile, "holds no points where the surface shall be", info.name,
                "check the selection and the area");
  out.spacing = out.points > 0 ? plan.buckets->spacing() : Length::metres(about);
  out.longest_edge = o.longest_edge > Length() ? o.longest_edge : out.spacing * kLongestEdgeSpacings;
  plan.spacing = out.spacing.metres() / plan.buckets->lattice().metres;
  plan.longest_edge = out.longest_edge.metres() / plan.buckets->lattice().metres;
  plan.radius = o.radius.metres() / plan.buckets->lattice().metres;
  // Places are rounded to steps of the lattice: an edge that is as long as it may be stays.
  plan.longest_edge += 1;
  plan.lines = lines_of(o.breaklines, plan.buckets->lattice(), plan.longest_edge);
  GridInfo g;
  g.frame = plan.frame;
  g.sources = sources_of(info, out.spacing);
  g.notes = info.notes;
  out.breaklines_lost = [lost = plan.lost] { return lost->load(); };
  const auto tiles = std::make_shared<Tiles>(std::move(plan));
  if (o.sampled) tiles->make_together(info.name);
  for (std::size_t m = 0; m < o.methods.size(); ++m) {
    GridInfo own = g;
    own.name = name_of(o.methods[m]);
    own.quantity = info.quantity;
    own.quantity.surface = o.surface;
    if (o.methods[m].method == PointMethod::Count)
      own.quantity = {.kind = QuantityKind::Code, .other_unit = "points", .heights = {}};
    if (o.methods[m].method == PointMethod::Deviation) own.quantity.kind = QuantityKind::Uncertainty;
    if (o.methods[m].method == PointMethod::Deviation) own.quantity.other_unit = symbol(info.quantity.unit);
    if (o.methods[m].method == PointMethod::Count) own.type = SampleType::UInt32;
    out.grids.push_back(Grid(std::make_shared<PointGrid>(tiles, m, own)));
  }
  return out;
}

}  // namespace katoptra
