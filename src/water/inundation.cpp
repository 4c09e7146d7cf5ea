#include "katoptra/water/inundation.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "grid/cell_areas.hpp"
#include "outline.hpp"
#include "surface/void_finder.hpp"
#include "terrain/product_info.hpp"
#include "tiles.hpp"

namespace katoptra {
namespace {

struct WetRun {
  double area = 0, volume = 0, deepest = 0;
  bool beside_void = false;  // or at the edge
};

class WetFinder {
 public:
  WetFinder(const Grid& surface, const InundationOptions& o)
      : surface_(surface),
        options_(o),
        areas_(surface.frame()),
        finder_(surface.frame(), o.run.memory / 2, surface.info().name) {}

  VoidMap find() {
    // Bands with a row more on either side: where a run lies beside a void is seen from the rows around it.
    struct Rows {
      Block block;
      Window band;
    };
    map_bands(
        surface_, Planes::Values, 1, options_.run,
        [](Block with_halo, const Window& band) -> std::shared_ptr<void> {
          return std::make_shared<Rows>(Rows{std::move(with_halo), band});
        },
        [&](const std::shared_ptr<void>& made) {
          const Rows& rows = *static_cast<Rows*>(made.get());
          for (std::int64_t r = 0; r < rows.band.rows; ++r)
            add_row(rows.block, rows.band.row + r - rows.block.window().row, rows.band.row + r);
        });
    return finder_.finish();
  }
  const std::vector<WetRun>& runs() const { return facts_; }

 private:
  bool is_void(const Block& b, std::int64_t c, std::int64_t r) const {
    return c < 0 || r < 0 || c >= b.window().cols || r >= b.window().rows || std::isnan(b.at(c, r));
  }
  void add_row(const Block& b, std::int64_t r, std::int64_t row) {
    std::vector<VoidRun> found;
    const CellAreas::Row area = areas_.row(row);
    const std::int64_t left = -b.window().col;  // of column 0 in the block
    const double vertical = metres_per(surface_.quantity().unit);
    for (std::int64_t col = 0; col < surface_.frame().cols(); ++col) {
      const std::int64_t c = col + left;
      const auto z = static_cast<double>(b.at(c, r));
      if (!(z <= options_.level)) continue;
      if (found.empty() || found.back().last != col) {
        found.push_back({col, col, 0});
        facts_.push_back({});
      }
      found.back().last = col + 1;
      WetRun& k = facts_.back();
      k.area += area.at(col);
      k.volume += area.at(col) * (options_.level - z) * vertical;
      k.deepest = std::max(k.deepest, options_.level - z);
      for (std::int64_t y = -1; y <= 1 && !k.beside_void; ++y)
        for (std::int64_t x = -1; x <= 1; ++x) k.beside_void = k.beside_void || is_void(b, c + x, r + y);
    }
    finder_.add_row(found);
  }

  const Grid& surface_;
  const InundationOptions& options_;
  CellAreas areas_;
  VoidFinder finder_;
  std::vector<WetRun> facts_;
};

// The region of the place; regions are found by their runs.
std::uint32_t region_at(const VoidMap& map, const Grid& surface, Point p, double level) {
  const auto cell = cell_at(surface.frame(), p);
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorCode::BadArgument, fmt::format("the place {:.10g},{:.10g} {}", p.x, p.y, what),
                surface.info().name, "give a place that lies under water at that level");
  };
  if (!cell) refuse("lies outside the surface");
  const auto [c, r] = *cell;
  for (std::size_t i = map.row_begin[static_cast<std::size_t>(r)]; i < map.row_begin[static_cast<std::size_t>(r) + 1];
       ++i)
    if (map.runs[i].first <= c && c < map.runs[i].last) return map.runs[i].region;
  const float z = surface.at(c, r);
  refuse(std::isnan(z)
             ? "lies on a void"
             : fmt::format("is {:g} {} high, above the level of {:g}", z, unit_name(surface.quantity()), level));
  return 0;
}

}  // namespace

Inundation inundation(const Grid& surface, const InundationOptions& o) {
  require_heights(surface);
  if (!std::isfinite(o.level)) throw Error(ErrorCode::BadArgument, "the level must be a number", "inundation");
  WetFinder finder(surface, o);
  const VoidMap map = finder.find();
  std::vector<WetPart> parts(map.regions.size());
  std::vector<std::uint8_t> wet(parts.size(), o.all);
  std::vector<std::vector<CellRun>> cells(parts.size());
  for (std::int64_t row = 0; row < surface.frame().rows(); ++row)
    for (std::size_t i = map.row_begin[static_cast<std::size_t>(row)];
         i < map.row_begin[static_cast<std::size_t>(row) + 1]; ++i) {
      const VoidRun& run = map.runs[i];
      const WetRun& k = finder.runs()[i];
      WetPart& p = parts[run.region];
      p.cells += run.last - run.first;
      p.area += k.area;
      p.volume += k.volume;
      p.deepest = std::max(p.deepest, k.deepest);
      if (k.beside_void && o.places.empty()) wet[run.region] = 1;
      cells[run.region].push_back({row, run.first, run.last});
    }
  for (const Point p : o.places) wet[region_at(map, surface, p, o.level)] = 1;
  Inundation out{.level = o.level};
  for (std::size_t i = 0; i < parts.size(); ++i) {
    if (!wet[i]) {
      out.dry_low_cells += parts[i].cells;
      out.dry_low_area += parts[i].area;
      continue;
    }
    parts[i].shape = outline_of(cells[i], surface.frame());
    out.area += parts[i].area;
    out.volume += parts[i].volume;
    out.parts.push_back(std::move(parts[i]));
  }
  return out;
}

namespace {

class ChanceSource final : public GridSource {
 public:
  ChanceSource(Grid surface, GridInfo info, double level)
      : surface_(std::move(surface)), info_(std::move(info)), level_(level) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Block in = surface_.read(out.window, planes_with(out.origin != nullptr, true));
    for (std::int64_t r = 0; r < out.window.rows; ++r) {
      if (out.origin) std::copy_n(in.origin_row(r), out.window.cols, out.origin_row(r));
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const double below = level_ - static_cast<double>(in.at(c, r)),
                     u = static_cast<double>(in.uncertainty_row(r)[c]);
        const double share = u > 0 ? std::erfc(-below / (u * std::sqrt(2.0))) / 2 : below >= 0 ? 1 : 0;
        out.row(r)[c] = std::isnan(below) || std::isnan(u) ? kVoid : static_cast<float>(100 * share);
        if (out.origin && std::isnan(out.row(r)[c])) out.origin_row(r)[c] = 0;
      }
    }
  }

 private:
  Grid surface_;
  GridInfo info_;
  double level_;
};

}  // namespace

Grid chance_below(const Grid& surface, double level) {
  if (!std::isfinite(level)) throw Error(ErrorCode::BadArgument, "the level must be a number", "chance");
  if (!surface.carries_uncertainty())
    throw Error(ErrorCode::BadArgument, "does not say how sure it is, so nobody can say how likely it is under water",
                surface.info().name, "state it with --uncertainty, for instance 0.1m");
  return Grid(std::make_shared<ChanceSource>(
      surface, product_info(surface, QuantityKind::Chance, "percent", SampleType::Float32), level));
}

Layer inundation_layer(const Inundation& wet, const Grid& surface) {
  Layer layer{.name = "inundation", .crs = surface.frame().crs(), .features = {}};
  for (const WetPart& p : wet.parts)
    layer.features.push_back({p.shape,
                              {{"level", wet.level},
                               {"unit", unit_name(surface.quantity())},
                               {"area_m2", p.area},
                               {"volume_m3", p.volume},
                               {"deepest", p.deepest},
                               {"cells", p.cells}}});
  return layer;
}

}  // namespace katoptra
