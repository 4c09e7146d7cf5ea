#include "katoptra/water/flat_water.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <numeric>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/water/inundation.hpp"

#include "base/robust.hpp"
#include "cell_set.hpp"
#include "grid/cell_areas.hpp"
#include "grid/planes.hpp"
#include "river_levels.hpp"
#include "surface/void_finder.hpp"
#include "terrain/product_info.hpp"
#include "water_level.hpp"

namespace katoptra {
namespace {

constexpr double kFormOfRivers = 10;  // lengths to widths
constexpr double kLeastFall = 0.1;    // metres, of what is taken for a river by its form

// One body while it is worked on.
struct Body {
  const WaterBody* given = nullptr;
  WaterKind kind = WaterKind::Unknown;
  CellSet cells, rim;
  double level = std::nan("");
  std::vector<float> levels;  // of a river, by its cells
  double spread = 0, uncertainty = std::nan("");
  std::string by;
  CellSet wet;

  double level_at(std::size_t number) const { return levels.empty() ? level : static_cast<double>(levels[number]); }
};

// The noise of water that stands at a level: of heights near it, how far each lies off those on either side.
double noise_near(const Grid& surface, const CellSet& set, double level) {
  const double near = kMostSpread / metres_per(surface.quantity().unit);
  const std::size_t every = sampling_of(set);
  std::vector<double> off;
  read_cells(surface, set, Planes::Values, 0, [&](const Block& block, const CellRun& run, std::size_t number) {
    const float* z = block.row(run.row - block.window().row) + (run.first - block.window().col);
    for (std::size_t i = 1; i + 1 < static_cast<std::size_t>(run.last - run.first); ++i) {
      if ((number + i) % every != 0) continue;
      const auto a = static_cast<double>(z[i - 1]), b = static_cast<double>(z[i]), c = static_cast<double>(z[i + 1]);
      if (std::abs(a - level) <= near && std::abs(b - level) <= near && std::abs(c - level) <= near)
        off.push_back(b - (a + c) / 2);
    }
  });
  constexpr std::size_t kEnough = 30;
  return off.size() < kEnough ? 0 : robust_deviation(off, 0) / std::sqrt(1.5);
}

// The standard error of a level from the middle of `cells` heights on `area` square metres, that spread so far and
// state such an uncertainty: as many of them count as are independent, or, where nobody says how far errors go
// together, what is stated is common to all.
double error_of_level(const GridInfo& info, double spread, double stated, double cells, double area) {
  // A median is less sure than a mean; less so where errors change slowly.
  const double of_median = std::sqrt(M_PI / 2), of_slow = 1.1;
  if (!info.error_reach) return std::hypot(of_median * spread / std::sqrt(cells), stated);
  const double reach = info.error_reach->metres();
  const double independent = reach > 0 ? std::min(cells, area / (M_PI * reach * reach)) : cells;
  return (independent < cells ? of_slow : of_median) * std::max(spread, stated) / std::sqrt(std::max(1.0, independent));
}

// Lays bodies flat one after the other: their cells, their levels, what of them stays dry.
class Laying {
 public:
  Laying(const Grid& surface, const FlattenOptions& o)
      : surface_(surface), options_(o), areas_(surface.frame()), metre_(metres_per(surface.quantity().unit)) {
    if (o.above && !(o.above->metres() >= 0))
      throw Error(ErrorCode::BadArgument, "water does not lie below itself: `above` is negative", "flatten");
    if (!(o.smallest_island >= 0))
      throw Error(ErrorCode::BadArgument, "an island cannot be smaller than nothing", "flatten");
  }

  std::vector<Body> lay(const std::vector<WaterBody>& given) {
    std::vector<Body> bodies(given.size());
    parallel_for(given.size(), options_.run, [&](std::size_t i) {
      bodies[i].given = &given[i];
      bodies[i].kind = given[i].kind;
      bodies[i].cells = cells_in(given[i].shape);
    });
    claim(bodies);
    parallel_for(bodies.size(), options_.run, [&](std::size_t i) { take_level(bodies[i]); });
    const std::vector<std::vector<RiverContact>> contacts = contacts_of(bodies);
    parallel_for(bodies.size(), options_.run, [&](std::size_t i) {
      if (bodies[i].kind == WaterKind::River) take_fall(bodies[i], contacts[i]);
      bodies[i].wet = wet_of(bodies[i]);
    });
    return bodies;
  }

 private:
  CellSet cells_in(const MultiPolygon& shape) const {
    const Frame& f = surface_.frame();
    const Window w = f.window_of_centres(bounds_of(shape)).grown(1).intersected(f.window());
    if (w.empty()) return {};
    const CellMask mask(shape, f.sub(w));
    std::vector<CellRun> runs;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (const auto& [first, last] : mask.spans(r)) runs.push_back({w.row + r, w.col + first, w.col + last});
    return CellSet(std::move(runs));
  }

  // Each cell belongs to one body: standing water first, then in the order given.
  static void claim(std::vector<Body>& bodies) {
    std::vector<std::size_t> order(bodies.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_partition(order.begin(), order.end(),
                          [&](std::size_t i) { return bodies[i].kind != WaterKind::River; });
    for (std::size_t i = 0; i < order.size(); ++i)
      for (std::size_t k = 0; k < i; ++k) {
        CellSet &mine = bodies[order[i]].cells, &theirs = bodies[order[k]].cells;
        if (!mine.box().intersected(theirs.box()).empty()) mine = without(mine, theirs);
      }
  }

  CellSize ground_cell(const CellSet& cells) const {
    const GroundSpacing s = ground_spacing(surface_.frame().sub(cells.box()));
    return {s.x.metres(), s.y.metres()};
  }

  struct Heights {
    std::vector<double> z;
    double squares = 0, known = 0;  // of uncertainties
    std::size_t asked = 0;          // cells, voids among them
  };
  Heights heights_in(const CellSet& set) const {
    Heights h;
    const std::size_t every = sampling_of(set);
    h.asked = (set.count() + every - 1) / every;
    sample_heights(surface_, set, planes(), [&](double z, double u) {
      h.z.push_back(z);
      if (std::isnan(u)) return;
      h.squares += u * u;
      ++h.known;
    });
    return h;
  }

  // Kind, and the level of standing water.
  void take_level(Body& b) const {
    if (b.cells.empty()) return;
    b.rim = rim_of(b.cells, surface_.frame());
    Heights h = heights_in(b.cells);
    if (b.kind == WaterKind::Unknown) b.kind = told_kind(b);
    if (b.kind == WaterKind::River) return;
    auto own = 4 * h.z.size() >= h.asked ? water_level(h.z) : std::nullopt;
    if (b.given->level) {
      b.level = *b.given->level;
      b.spread = noise_near(surface_, b.cells, b.level);
      b.by = "given";
    } else if (own) {
      require_level(b, own->spread);
      b.level = own->level;
      b.spread = own->spread;
      b.by = "its cells";
      // The shore lies above the level, never below: once it is known, it has no say.
      const CellSet off_shore = inner(inner(wet_of(b)));
      constexpr std::size_t kMostOfAll = 3;
      if (kMostOfAll * off_shore.count() >= b.cells.count()) {
        Heights more = heights_in(off_shore);
        if (const auto again = water_level(more.z)) {
          own = again;
          h = std::move(more);
          b.level = own->level;
          b.spread = own->spread;
        }
      }
      const auto n = static_cast<double>(own->cells);
      if (h.known > 0)
        b.uncertainty =
            error_of_level(surface_.info(), b.spread, std::sqrt(h.squares / h.known), n, area_of_set(b.cells));
    } else {
      take_bank(b);
    }
  }

  // Ground is taken for water when somebody gives the wrong polygons.
  void require_level(const Body& b, double spread) const {
    if (spread <= kMostSpread / metre_) return;
    const Point p = surface_.frame().centre(static_cast<double>(b.cells.runs()[0].first),
                                            static_cast<double>(b.cells.runs()[0].row));
    throw Error(ErrorCode::BadArgument,
                fmt::format("the {} {}at {:.10g},{:.10g} is not level: its cells spread by {:.3g} {}", name_of(b.kind),
                            b.given->name.empty() ? "" : "'" + b.given->name + "' ", p.x, p.y, spread,
                            unit_name(surface_.quantity())),
                surface_.info().name, "give the shapes of waters, or the level of this one");
  }

  // A river is long and does not stand. Of two ends that cannot be told apart in height it is a lake.
  WaterKind told_kind(const Body& b) const {
    if (b.given->level || b.cells.count() > static_cast<std::size_t>(kRiverCells)) return WaterKind::Lake;
    const CellSize cell = ground_cell(b.cells);
    const Form form = form_of(b.cells, cell);
    if (form.length < kFormOfRivers * form.width) return WaterKind::Lake;
    const RiverLevels r = solved(b, cell, {});
    constexpr double kSpreads = 3;
    return r.highest - r.lowest > std::max(kLeastFall / metre_, kSpreads * r.rest) ? WaterKind::River : WaterKind::Lake;
  }

  void take_bank(Body& b) const {
    constexpr double kLow = 0.05, kHigher = 0.25;
    Heights h = heights_in(b.rim);
    std::vector<double>& z = h.z;
    if (z.empty()) return;
    std::sort(z.begin(), z.end());
    b.level = quantile_of(z, kLow);
    b.by = "its bank";
    if (h.known > 0) b.uncertainty = std::hypot(quantile_of(z, kHigher) - b.level, std::sqrt(h.squares / h.known));
  }

  RiverLevels solved(const Body& b, CellSize cell, const std::vector<RiverContact>& contacts) const {
    const std::vector<float> z = values_of(surface_, b.cells), rim_z = values_of(surface_, b.rim);
    return river_levels({b.cells, z, b.rim, rim_z, cell}, contacts);
  }

  void take_fall(Body& b, const std::vector<RiverContact>& contacts) const {
    if (b.cells.empty()) return;
    if (b.cells.count() > static_cast<std::size_t>(kRiverCells))
      throw Error(ErrorCode::TooLarge,
                  fmt::format("the river {} has {} cells; at most {} are solved at once",
                              b.given->name.empty() ? "here" : b.given->name, b.cells.count(), kRiverCells),
                  "flatten", "cut its shape into parts where weirs or confluences part it");
    const CellSize cell = ground_cell(b.cells);
    RiverLevels r = solved(b, cell, contacts);
    if (!std::isnan(r.spread)) require_level(b, r.spread);
    b.spread = std::isnan(r.spread) ? 0 : r.spread;
    b.by = std::isnan(r.spread) ? "its bank" : "its cells";
    if (r.lowest <= r.highest) b.level = r.lowest;
    b.levels = std::move(r.level);
    if (!surface_.carries_uncertainty() || std::isnan(r.spread)) return;
    const Heights h = heights_in(b.cells);
    const double n = std::max(1.0, r.cells_of_stretch);
    // Lines of equal distance do not lie quite across: by about a tenth of the width.
    const double across = 0.1 * r.width * (r.highest - r.lowest) / std::max(r.length, r.width);
    if (h.known > 0)
      b.uncertainty = std::hypot(
          std::max(r.rest,
                   error_of_level(surface_.info(), b.spread, std::sqrt(h.squares / h.known), n, n * cell.x * cell.y)),
          across);
  }

  // Cells of rivers that share a side with one of a lake or the sea.
  static std::vector<std::vector<RiverContact>> contacts_of(const std::vector<Body>& bodies) {
    std::vector<std::vector<RiverContact>> out(bodies.size());
    for (std::size_t i = 0; i < bodies.size(); ++i) {
      if (bodies[i].kind != WaterKind::River) continue;
      for (const Body& other : bodies) {
        const bool stands = other.kind == WaterKind::Lake || other.kind == WaterKind::Sea;
        if (!stands || std::isnan(other.level) || bodies[i].cells.box().grown(1).intersected(other.cells.box()).empty())
          continue;
        for (const CellRun& run : bodies[i].rim.runs())
          other.cells.within({run.first, run.row, run.last - run.first, 1}, [&](const CellRun& met, std::size_t) {
            for (std::int64_t c = met.first; c < met.last; ++c)
              for (const auto& [x, y] : {std::pair{-1, 0}, {1, 0}, {0, -1}, {0, 1}})
                if (const std::int64_t k = bodies[i].cells.number(c + x, met.row + y); k >= 0)
                  out[i].push_back({static_cast<std::size_t>(k), other.level});
          });
      }
    }
    return out;
  }

  // All but the bank and islands.
  CellSet wet_of(const Body& b) const {
    constexpr double kOfRivers = 5;  // whose level is not known as well at every place
    if (b.cells.empty() || std::isnan(b.level)) return {};
    const Window box = b.cells.box();
    const double above = options_.above
                             ? options_.above->metres() / metre_
                             : std::max(3 * b.spread, (b.levels.empty() ? 1 : kOfRivers) * kLeastAbove / metre_);
    VoidFinder finder(surface_.frame().sub(box), options_.run.memory / 2, surface_.info().name);
    std::vector<VoidRun> dry;
    std::int64_t row = box.row;
    const auto finish_rows_before = [&](std::int64_t next) {
      for (; row < next; ++row) {
        finder.add_row(dry);
        dry.clear();
      }
    };
    read_cells(surface_, b.cells, Planes::Values, 0, [&](const Block& block, const CellRun& run, std::size_t number) {
      finish_rows_before(run.row);
      const Window& w = block.window();
      const float* z = block.row(run.row - w.row) - w.col;
      for (std::int32_t c = run.first; c < run.last; ++c) {
        const double level = b.level_at(number + static_cast<std::size_t>(c - run.first));
        // Nor is there water where no level is known.
        if (!std::isnan(level) && !(static_cast<double>(z[c]) > level + above)) continue;
        if (dry.empty() || dry.back().last != c - box.col) dry.push_back({c - box.col, c - box.col, 0});
        ++dry.back().last;
      }
    });
    finish_rows_before(box.row + box.rows);
    return without(b.cells, kept_of(b, finder.finish()));
  }

  // Of the dry parts those that hang together with the outside, and those that are large enough for an island.
  CellSet kept_of(const Body& b, const VoidMap& dry) const {
    const Window box = b.cells.box();
    std::vector<double> area(dry.regions.size());
    std::vector<std::uint8_t> kept(dry.regions.size());
    const auto each_run = [&](const auto& body) {
      for (std::int64_t r = 0; r < box.rows; ++r)
        for (std::size_t i = dry.row_begin[static_cast<std::size_t>(r)];
             i < dry.row_begin[static_cast<std::size_t>(r) + 1]; ++i)
          body(CellRun(box.row + r, box.col + dry.runs[i].first, box.col + dry.runs[i].last), dry.runs[i].region);
    };
    each_run([&](const CellRun& run, std::uint32_t region) {
      const CellAreas::Row of_row = areas_.row(run.row, run.first, run.last);
      for (std::int64_t c = run.first; c < run.last; ++c) area[region] += of_row.at(c);
      if (!kept[region]) kept[region] = lies_at_outside(b, run);
    });
    std::vector<CellRun> runs;
    each_run([&](const CellRun& run, std::uint32_t region) {
      if (kept[region] || area[region] >= options_.smallest_island) runs.push_back(run);
    });
    return CellSet(std::move(runs));
  }
  static bool lies_at_outside(const Body& b, const CellRun& run) {
    const Window around{run.first - 1, run.row - 1, run.last - run.first + 2, 3};
    bool found = false;
    b.rim.within(around, [&](const CellRun& rim, std::size_t) {
      found = found || rim.row == run.row || (rim.first < run.last && run.first < rim.last);
    });
    return found;
  }

 public:
  double area_of_set(const CellSet& set) const {
    double sum = 0;
    for (const CellRun& run : set.runs()) {
      const CellAreas::Row row = areas_.row(run.row, run.first, run.last);
      for (std::int64_t c = run.first; c < run.last; ++c) sum += row.at(c);
    }
    return sum;
  }

 private:
  Planes planes() const { return surface_.carries_uncertainty() ? Planes::ValuesAndUncertainty : Planes::Values; }

  const Grid& surface_;
  const FlattenOptions& options_;
  CellAreas areas_;
  double metre_;  // metres in a unit of heights
};

// What was done to a body.
LaidBody told_of(const Grid& surface, const Laying& laying, const Body& b) {
  LaidBody t{.name = b.given->name, .kind = b.kind, .level = std::nan(""), .highest = std::nan("")};
  t.by = b.by;
  t.kept = static_cast<std::int64_t>(b.cells.count() - b.wet.count());
  t.uncertainty = b.uncertainty;
  if (b.wet.empty()) return t;
  t.cells = static_cast<std::int64_t>(b.wet.count());
  t.area = laying.area_of_set(b.wet);
  t.shape = outline_of(b.wet.runs(), surface.frame());
  t.level = INFINITY;
  t.highest = -INFINITY;
  read_cells(surface, b.wet, Planes::Values, 0, [&](const Block& block, const CellRun& run, std::size_t) {
    const Window& w = block.window();
    const float* z = block.row(run.row - w.row) - w.col;
    const auto first = static_cast<std::size_t>(b.cells.number(run.first, run.row));
    for (std::int32_t c = run.first; c < run.last; ++c) {
      const double level = b.level_at(first + static_cast<std::size_t>(c - run.first));
      t.level = std::min(t.level, level);
      t.highest = std::max(t.highest, level);
      t.voids += std::isnan(z[c]);
      t.raised = std::max(t.raised, level - static_cast<double>(z[c]));
      t.lowered = std::max(t.lowered, static_cast<double>(z[c]) - level);
    }
  });
  const CellSet bank = rim_of(b.wet, surface.frame());
  read_cells(surface, bank, Planes::Values, 0, [&](const Block& block, const CellRun& run, std::size_t) {
    const Window& w = block.window();
    const float* z = block.row(run.row - w.row) - w.col;
    for (std::int32_t c = run.first; c < run.last; ++c) {
      if (std::isnan(z[c])) continue;
      ++t.bank;
      double level = INFINITY;
      for (const auto& [x, y] : {std::pair{-1, 0}, {1, 0}, {0, -1}, {0, 1}})
        if (b.wet.holds(c + x, run.row + y))
          level = std::min(level, b.level_at(static_cast<std::size_t>(b.cells.number(c + x, run.row + y))));
      const double below = level - static_cast<double>(z[c]);
      t.bank_below += below > 0;
      t.bank_lowest = std::max(t.bank_lowest, below);
    }
  });
  return t;
}

class FlatSource final : public GridSource {
 public:
  // `sources`: numbers of the sources of laid cells, by kind.
  FlatSource(Grid input, GridInfo info, std::shared_ptr<const std::vector<Body>> bodies,
             std::array<std::uint32_t, 4> sources)
      : input_(std::move(input)), info_(std::move(info)), bodies_(std::move(bodies)), sources_(sources) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Window& w = out.window;
    for (const Body& b : *bodies_) {
      if (b.wet.box().intersected(w).empty()) continue;
      const Origin origin = origin_code(sources_[static_cast<std::size_t>(b.kind)], How::Filled);
      b.wet.within(w, [&](const CellRun& run, std::size_t) {
        const auto first = static_cast<std::size_t>(b.cells.number(run.first, run.row));
        const auto n = static_cast<std::size_t>(run.last - run.first), at = static_cast<std::size_t>(run.first - w.col);
        for (std::size_t i = 0; i < n; ++i)
          out.row(run.row - w.row)[at + i] = static_cast<float>(b.level_at(first + i));
        if (out.origin) std::fill_n(out.origin_row(run.row - w.row) + at, n, origin);
        if (out.uncertainty)
          std::fill_n(out.uncertainty_row(run.row - w.row) + at, n, static_cast<float>(b.uncertainty));
      });
    }
  }

 private:
  Grid input_;
  GridInfo info_;
  std::shared_ptr<const std::vector<Body>> bodies_;
  std::array<std::uint32_t, 4> sources_;
};

class BeforeSource final : public GridSource {
 public:
  BeforeSource(Grid input, std::shared_ptr<const std::vector<Body>> bodies)
      : input_(std::move(input)), bodies_(std::move(bodies)) {}
  const GridInfo& info() const override { return input_.info(); }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    make_void(out);
    for (const Body& b : *bodies_)
      b.wet.within(out.window, [&](const CellRun& run, std::size_t) {
        input_.read_into(out.part({run.first, run.row, run.last - run.first, 1}));
      });
  }

 private:
  Grid input_;
  std::shared_ptr<const std::vector<Body>> bodies_;
};

// Waves are no islands.
void fill_small_holes(MultiPolygon& shape, double square_metres, const Frame& frame) {
  const GroundSpacing s = ground_spacing(frame);
  const double planar = square_metres / (s.x.metres() * s.y.metres()) * frame.cell().x * frame.cell().y;
  for (Polygon& p : shape)
    std::erase_if(p.holes, [&](const Ring& hole) { return planar_area({Polygon{hole, {}}}) < planar; });
}

// What is sea at a level, from the edge and from voids.
void add_sea(std::vector<WaterBody>& bodies, const Grid& surface, const FlattenOptions& o) {
  const double metre = metres_per(surface.quantity().unit);
  std::vector<CellRun> rows;
  for (std::int64_t r = 0; r < surface.frame().rows(); ++r) rows.push_back({r, 0, surface.frame().cols()});
  const double above = o.above
                           ? o.above->metres() / metre
                           : std::max(3 * noise_near(surface, CellSet(std::move(rows)), *o.sea), kLeastAbove / metre);
  Inundation wet = inundation(surface, {.level = *o.sea + above, .places = {}, .all = false, .run = o.run});
  WaterBody sea{.shape = {}, .kind = WaterKind::Sea, .level = o.sea, .name = "sea"};
  for (WetPart& p : wet.parts) {
    fill_small_holes(p.shape, o.smallest_island, surface.frame());
    std::move(p.shape.begin(), p.shape.end(), std::back_inserter(sea.shape));
  }
  if (sea.shape.empty())
    throw Error(ErrorCode::BadArgument,
                fmt::format("nothing at the edge or beside voids is as low as a sea at {:g} {}", *o.sea,
                            unit_name(surface.quantity())),
                surface.info().name, "check the level, its unit and what heights are counted from");
  std::int64_t high = 0;
  for_each_band(surface, Planes::Values, o.run, [&](const Block& band) {
    for (std::int64_t i = 0; i < band.window().cells() && high == 0; ++i)
      high += static_cast<double>(band.row(0)[i]) > *o.sea + above;
  });
  if (high == 0)
    throw Error(ErrorCode::BadArgument,
                fmt::format("all of the surface lies below a sea at {:g} {}", *o.sea, unit_name(surface.quantity())),
                surface.info().name, "check the level, its unit and what heights are counted from");
  bodies.push_back(std::move(sea));
}

// Nothing was laid flat: why.
Error all_stays_dry(const Grid& surface, const std::vector<LaidBody>& told) {
  const bool inside = std::any_of(told.begin(), told.end(), [](const LaidBody& b) { return b.kept > 0; });
  if (!inside)
    return Error(ErrorCode::BadArgument, "no cell has its centre inside a body of water", surface.info().name,
                 "check the coordinates of the shapes and their CRS");
  return Error(ErrorCode::BadArgument, "no cell inside the bodies of water is as low as their level",
               surface.info().name, "check the levels, their unit and what heights are counted from");
}

}  // namespace

const char* name_of(WaterKind kind) {
  switch (kind) {
    case WaterKind::Lake:
      return "lake";
    case WaterKind::River:
      return "river";
    case WaterKind::Sea:
      return "sea";
    case WaterKind::Unknown:
      break;
  }
  return "auto";
}

WaterKind parse_water_kind(std::string_view text) {
  for (const WaterKind k : {WaterKind::Unknown, WaterKind::Lake, WaterKind::River, WaterKind::Sea})
    if (text == name_of(k)) return k;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no kind of water", text), "kind",
              "take lake, river, sea or auto");
}

FlatWater lay_water_flat(const Grid& surface, const std::vector<WaterBody>& given, const FlattenOptions& options) {
  require_heights(surface);
  if (options.sea && !std::isfinite(*options.sea))
    throw Error(ErrorCode::BadArgument, "the level of the sea must be a number", "flatten");
  std::vector<WaterBody> all = given;
  if (options.sea) add_sea(all, surface, options);
  Laying laying(surface, options);
  const auto bodies = std::make_shared<std::vector<Body>>(laying.lay(all));
  FlatWater out;
  out.bodies.resize(all.size());
  parallel_for(all.size(), options.run, [&](std::size_t i) { out.bodies[i] = told_of(surface, laying, (*bodies)[i]); });
  if (std::all_of(out.bodies.begin(), out.bodies.end(), [](const LaidBody& b) { return b.cells == 0; }))
    throw all_stays_dry(surface, out.bodies);
  GridInfo info = surface.info();
  std::array<std::uint32_t, 4> sources{};
  for (const WaterKind kind : {WaterKind::Lake, WaterKind::River, WaterKind::Sea}) {
    if (std::none_of(out.bodies.begin(), out.bodies.end(), [&](const LaidBody& b) { return b.kind == kind; })) continue;
    info.sources.push_back({.name = fmt::format("flatten: {} laid flat", name_of(kind)),
                            .survey = {},
                            .date = {},
                            .cell = ground_spacing(surface.frame()).y,
                            .treatment = {}});
    sources[static_cast<std::size_t>(kind)] = static_cast<std::uint32_t>(info.sources.size());
  }
  const bool whole_levels = std::all_of(bodies->begin(), bodies->end(), [](const Body& b) {
    return b.wet.empty() || (b.levels.empty() && b.level == std::round(b.level));
  });
  if (is_integer(info.type) && !whole_levels) {
    info.notes.push_back(std::string("levels are fractions of ") + name_of(info.type) + " values: written as float32");
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  for (Body& b : *bodies) b.given = nullptr;
  out.grid = Grid(std::make_shared<FlatSource>(surface, std::move(info), bodies, sources));
  out.before = Grid(std::make_shared<BeforeSource>(surface, bodies));
  return out;
}

}  // namespace katoptra
