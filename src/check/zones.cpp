// Statistics of parts of a grid: between levels, in polygons, by the whole numbers of another grid, by aspect. All are
// one pass in bands: a row tells which zone each cell is in, sums of a row are closed before they are added, and rows
// are added in order, so that the result is the same bits for every band height and thread count. Areas are those of
// cells on the ellipsoid; a volume is the sum of heights above its level times such areas.
#include "katoptra/check/zones.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <tuple>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "base/text.hpp"
#include "correlation.hpp"
#include "grid/cell_areas.hpp"
#include "moments.hpp"
#include "sectors.hpp"

namespace katoptra {
namespace {

void require_surface(const Grid& g) {
  if (g.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(g.quantity().kind)), g.info().name,
                "give a surface");
}

// ---- levels

struct Slice {
  double area = 0, moment = 0;  // of the cells between two levels: area, and area times height
  // Of those whose uncertainty is known: their number and area, and sums of area times uncertainty, plain and squared.
  double cells = 0, known = 0, doubt = 0, doubt2 = 0;

  void add(double cell, double z, const float* u) {
    area += cell;
    moment += cell * z;
    if (!u || std::isnan(*u)) return;
    const double d = cell * static_cast<double>(*u);
    ++cells;
    known += cell;
    doubt += d;
    doubt2 += d * d;
  }
  void add(const Slice& o) {
    area += o.area;
    moment += o.moment;
    cells += o.cells;
    known += o.known;
    doubt += o.doubt;
    doubt2 += o.doubt2;
  }
};
using Slices = std::vector<Slice>;

struct Zone {
  explicit Zone(double origin = 0) : values(origin, 11) {}
  ErrorGathering values;
  std::vector<Moments> rows;
  std::vector<double> areas;  // by row
  std::int64_t voids = 0;
};
using Zones = std::map<std::int64_t, Zone>;

// What one row adds to a zone.
class RowOfZone {
 public:
  void add(float z, double cell_area) {
    const double v = static_cast<double>(z);
    if (n_ == 0) origin_ = v;
    sum_ += v - origin_;
    squares_ += (v - origin_) * (v - origin_);
    area_ += cell_area;
    ++n_;
  }
  void close(Zone& zone) {
    if (n_ == 0) return;
    const auto n = static_cast<double>(n_);
    zone.rows.push_back({n_, origin_ + sum_ / n, std::max(0.0, squares_ - sum_ * sum_ / n)});
    zone.areas.push_back(area_);
    *this = {};
  }

 private:
  std::int64_t n_ = 0;
  double origin_ = 0, sum_ = 0, squares_ = 0, area_ = 0;
};

// A pass in which `each_row(block, same block of `beside`, row of the block, row of the grid, add)` tells the zones of
// cells by calling add(zone, value, column).
template <class EachRow>
std::map<std::int64_t, ZoneStatistics> gather(const Grid& grid, const Grid& beside, const RunOptions& options,
                                              const EachRow& each_row) {
  const CellAreas areas(grid.frame());
  Zones all;
  std::map<std::int64_t, double> area;
  map_bands(
      grid, Planes::Values, 0, options,
      [&](Block b, const Window& band) -> std::shared_ptr<void> {
        auto part = std::make_shared<Zones>();
        std::map<std::int64_t, RowOfZone> row;
        const Block other = beside ? beside.read(band) : Block();
        for (std::int64_t r = 0; r < band.rows; ++r) {
          const CellAreas::Row cells = areas.row(band.row + r);
          each_row(b, other, r, band.row + r, [&](std::int64_t zone, float z, std::int64_t col) {
            Zone& to = (*part)[zone];
            if (std::isnan(z)) {
              ++to.voids;
              return;
            }
            to.values.add(z);
            row[zone].add(z, cells.at(col));
          });
          for (auto& [zone, sums] : row) sums.close((*part)[zone]);
          row.clear();
        }
        return part;
      },
      [&](std::shared_ptr<void> part) {
        for (const auto& [zone, p] : *static_cast<const Zones*>(part.get())) {
          Zone& to = all[zone];
          to.values.add(p.values);
          to.voids += p.voids;
          for (const Moments& m : p.rows) to.values.moments.add(m);
          for (double a : p.areas) area[zone] += a;
        }
      });
  std::map<std::int64_t, ZoneStatistics> out;
  for (const auto& [zone, z] : all) {
    const bool any = z.values.moments.n > 0;
    const double none = std::nan("");
    out[zone] = {.name = {},
                 .cells = z.values.moments.n,
                 .voids = z.voids,
                 .area = area[zone],
                 .lowest = any ? z.values.lowest : none,
                 .highest = any ? z.values.highest : none,
                 .mean = any ? z.values.moments.mean : none,
                 .deviation = z.values.moments.population_deviation(),
                 .p5 = z.values.sketch.quantile(0.05),
                 .median = z.values.sketch.quantile(0.5),
                 .p95 = z.values.sketch.quantile(0.95)};
  }
  return out;
}

ZoneStatistics none_of(const std::string& name) {
  const double none = std::nan("");
  return {.name = name,
          .lowest = none,
          .highest = none,
          .mean = none,
          .deviation = none,
          .p5 = none,
          .median = none,
          .p95 = none};
}

std::string name_of_feature(const Feature& f, std::size_t number) {
  for (const char* wanted : {"name", "label", "id"})
    for (const auto& [key, value] : f.properties) {
      if (lower_case(key) != wanted) continue;  // old tables are in capitals
      if (const auto* t = std::get_if<std::string>(&value)) return *t;
      if (const auto* i = std::get_if<std::int64_t>(&value)) return std::to_string(*i);
    }
  return std::to_string(number);
}

// The 95 % of a volume over those cells, and the share of them whose uncertainty is known. Cells whose uncertainty is
// not known are taken to be as sure as the others, and to err with them.
std::pair<double, double> doubt_of(const Slice& s, const Grid& surface, double unit) {
  if (!(s.known > 0)) return {std::nan(""), 0};
  const auto& reach = surface.info().error_reach;
  const double cell = ground_spacing(surface.frame()).y.metres(),
               apart = reach ? s.doubt2 * cells_alike(std::sqrt(s.cells), reach->metres() / cell) : INFINITY;
  return {kTwoSided95 * std::min(std::sqrt(apart), s.doubt) * unit * s.area / s.known, s.known / s.area};
}

}  // namespace

std::vector<LevelVolumes> volumes_at(const Grid& surface, std::vector<double> levels, const Area* inside,
                                     const RunOptions& options) {
  require_surface(surface);
  if (levels.empty())
    throw Error(ErrorCode::BadArgument, "no level to measure from", surface.info().name, "give one with --level");
  std::sort(levels.begin(), levels.end());
  levels.erase(std::unique(levels.begin(), levels.end()), levels.end());
  const CellAreas areas(surface.frame());
  std::optional<CellMask> mask;
  if (inside) mask.emplace(inside->in(surface.frame().crs()).shape(), surface.frame());
  Slices all(levels.size() + 1);
  map_bands(
      surface, planes_with(false, surface.carries_uncertainty()), 0, options,
      [&](Block b, const Window& band) -> std::shared_ptr<void> {
        auto rows = std::make_shared<std::vector<Slices>>();
        for (std::int64_t r = 0; r < band.rows; ++r) {
          Slices s(levels.size() + 1);
          const CellAreas::Row cells = areas.row(band.row + r);
          const auto spans =
              mask ? mask->spans(band.row + r) : std::vector<std::pair<std::int64_t, std::int64_t>>{{0, band.cols}};
          for (auto [first, last] : spans)
            for (std::int64_t c = first; c < last; ++c) {
              const double z = static_cast<double>(b.at(c, r));
              if (std::isnan(z)) continue;
              // Slice i lies above level i - 1 and at or below level i.
              const auto i = std::lower_bound(levels.begin(), levels.end(), z) - levels.begin();
              const float* u = b.uncertainty_row(r);
              s[static_cast<std::size_t>(i)].add(cells.at(c), z, u ? u + c : nullptr);
            }
          rows->push_back(std::move(s));
        }
        return rows;
      },
      [&](std::shared_ptr<void> part) {
        for (const Slices& s : *static_cast<const std::vector<Slices>*>(part.get()))
          for (std::size_t i = 0; i < s.size(); ++i) all[i].add(s[i]);
      });
  const double unit = metres_per(surface.quantity().unit);
  std::vector<LevelVolumes> out;
  for (std::size_t i = 0; i < levels.size(); ++i) {
    LevelVolumes v{.level = levels[i]};
    Slice sides[2];
    for (std::size_t k = 0; k < all.size(); ++k) {
      const double area = all[k].area, above = (all[k].moment - area * levels[i]) * unit;
      sides[k <= i].add(all[k]);
      (k <= i ? v.area_below : v.area_above) += area;
      if (k <= i)
        v.volume_below -= above;
      else
        v.volume_above += above;
    }
    std::tie(v.give_or_take_above, v.known_above) = doubt_of(sides[0], surface, unit);
    std::tie(v.give_or_take_below, v.known_below) = doubt_of(sides[1], surface, unit);
    out.push_back(v);
  }
  return out;
}

std::vector<LevelVolumes> hypsometric_curve(const Grid& surface, int steps, const Area* inside,
                                            const RunOptions& options) {
  const Statistics s = statistics(surface, options);
  if (std::isnan(s.lowest))
    throw Error(ErrorCode::BadArgument, "holds nothing but voids", surface.info().name, "take another surface");
  steps = std::clamp(steps, 1, 10'000);
  std::vector<double> levels;
  for (int i = 0; i <= steps; ++i) levels.push_back(s.lowest + (s.highest - s.lowest) * i / steps);
  return volumes_at(surface, levels, inside, options);
}

std::vector<ZoneStatistics> statistics_by_polygon(const Grid& grid, const Layer& polygons, const RunOptions& options) {
  if (polygons.crs && !grid.frame().crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so polygons cannot be laid over it",
                grid.info().name, "tell it with --crs");
  std::vector<CellMask> masks;
  std::vector<std::string> names;
  for (const Feature& f : polygons.features) {
    const auto* shape = std::get_if<MultiPolygon>(&f.geometry);
    if (!shape) continue;
    masks.emplace_back(polygons.crs && grid.frame().crs() ? shape_on(grid.frame(), Area(*shape, polygons.crs)) : *shape,
                       grid.frame());
    names.push_back(name_of_feature(f, names.size() + 1));
  }
  if (masks.empty()) throw Error(ErrorCode::BadFile, "has no polygon in it", polygons.name, "give zones as polygons");
  auto found =
      gather(grid, {}, options, [&](const Block& b, const Block&, std::int64_t r, std::int64_t row, const auto& add) {
        for (std::size_t i = 0; i < masks.size(); ++i)
          for (auto [first, last] : masks[i].spans(row))
            for (std::int64_t c = first; c < last; ++c) add(static_cast<std::int64_t>(i), b.at(c, r), c);
      });
  std::vector<ZoneStatistics> out;
  for (std::size_t i = 0; i < names.size(); ++i) {
    const auto it = found.find(static_cast<std::int64_t>(i));
    out.push_back(it == found.end() ? none_of(names[i]) : it->second);
    out.back().name = names[i];
  }
  return out;
}

std::vector<ZoneStatistics> statistics_by_class(const Grid& grid, const Grid& classes, const RunOptions& options) {
  const auto same = classes.frame().window_of(grid.frame());
  const Grid here = same ? cut(classes, *same) : reproject(classes, grid.frame(), Resampling::Nearest);
  auto found =
      gather(grid, here, options, [](const Block& b, const Block& k, std::int64_t r, std::int64_t, const auto& add) {
        for (std::int64_t c = 0; c < b.window().cols; ++c)
          if (const float zone = k.at(c, r); !std::isnan(zone)) add(std::llround(zone), b.at(c, r), c);
      });
  if (found.size() > kMostClasses)
    throw Error(ErrorCode::TooLarge, fmt::format("has {} different values", found.size()), classes.info().name,
                "classes are few whole numbers; take another grid");
  std::vector<ZoneStatistics> out;
  for (auto& [zone, s] : found) {
    s.name = std::to_string(zone);
    out.push_back(std::move(s));
  }
  return out;
}

std::vector<ZoneStatistics> slope_by_aspect(const Grid& surface, const RunOptions& options) {
  require_surface(surface);
  const Grid steep = slope(surface), facing = aspect(surface);
  auto found =
      gather(steep, facing, options, [](const Block& b, const Block& f, std::int64_t r, std::int64_t, const auto& add) {
        for (std::int64_t c = 0; c < b.window().cols; ++c) {
          const float s = b.at(c, r), a = f.at(c, r);
          if (std::isnan(s)) continue;
          add(std::isnan(a) ? 8 : sector_of(static_cast<double>(a)), s, c);
        }
      });
  std::vector<ZoneStatistics> out;
  for (int i = 0; i <= 8; ++i) {
    const std::string name = i == 8 ? "flat" : sector_name(i);
    const auto it = found.find(i);
    if (i == 8 && it == found.end()) continue;
    out.push_back(it == found.end() ? none_of(name) : it->second);
    out.back().name = name;
  }
  return out;
}

}  // namespace katoptra
