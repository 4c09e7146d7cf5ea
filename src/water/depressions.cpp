#include "katoptra/water/depressions.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <span>
#include <tuple>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/shared_parts.hpp"
#include "channel.hpp"
#include "flood.hpp"
#include "grid/cell_areas.hpp"
#include "grid/shared_bands.hpp"
#include "land.hpp"
#include "outline.hpp"
#include "terrain/product_info.hpp"
#include "terrain/words.hpp"

namespace katoptra {
namespace {

constexpr const char* kWaysOut[] = {"fill", "carve", "least"};
constexpr const char* kAtVoids[] = {"leave", "around"};

// One grid less another, void where either is.
class LessSource final : public GridSource {
 public:
  LessSource(Grid a, Grid b) : a_(std::move(a)), b_(std::move(b)) {}
  const GridInfo& info() const override { return a_.info(); }
  void read(const BlockView& out) const override {
    a_.read_into(out);
    const Block b = b_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) out.row(r)[c] -= b.at(c, r);
  }

 private:
  Grid a_, b_;
};

// Cells beside one another in a row that were raised: columns [first, last).
struct RaisedRun {
  std::int64_t row = 0, first = 0, last = 0;
  std::int64_t deepest = 0;  // the column, the first of several
  double depth = 0;          // there
  double area = 0, volume = 0;
};

// `depth` in units that are so many metres.
std::vector<RaisedRun> raised_runs(const Block& depth, const CellAreas& areas, double vertical) {
  std::vector<RaisedRun> out;
  for (std::int64_t r = 0; r < depth.window().rows; ++r) {
    const std::int64_t row = depth.window().row + r;
    std::optional<CellAreas::Row> area;
    for (std::int64_t c = 0; c < depth.window().cols; ++c) {
      const auto d = static_cast<double>(depth.at(c, r));
      if (!(d > 0)) continue;
      if (!area) area = areas.row(row);
      if (out.empty() || out.back().row != row || out.back().last != c) out.push_back({.row = row, .first = c});
      RaisedRun& run = out.back();
      run.last = c + 1;
      run.area += area->at(c);
      run.volume += area->at(c) * d * vertical;
      if (d > run.depth) {
        run.depth = d;
        run.deepest = c;
      }
    }
  }
  return out;
}

// Regions of cells that were raised, row by row from the north: what no run of the last row belongs to is complete, so
// that only open regions, and the list, are held.
class DepressionFinder {
 public:
  DepressionFinder(const Frame& frame, const Grid& level, bool shapes)
      : frame_(frame), level_(level), shapes_(shapes) {}

  void add_row(std::span<const RaisedRun> raised, std::int64_t row) {
    std::vector<Run> runs;
    for (const RaisedRun& r : raised) {
      runs.push_back({r.first, r.last, begin()});
      Depression& d = regions_[runs.back().region].found;
      d.cells = r.last - r.first;
      d.area = r.area;
      d.volume = r.volume;
      d.depth = r.depth;
      d.col = r.deepest;
      d.row = row;
    }
    std::size_t first = 0;
    for (Run& run : runs) {
      if (shapes_) regions_[run.region].runs.push_back({row, run.first, run.last});
      while (first < above_.size() && above_[first].last < run.first) ++first;
      for (std::size_t k = first; k < above_.size() && above_[k].first <= run.last; ++k)
        run.region = joined(root(above_[k].region), root(run.region));
    }
    for (Run& run : runs) {
      run.region = root(run.region);
      regions_[run.region].last_row = row;
    }
    for (const Run& run : above_)
      if (Region& r = regions_[root(run.region)]; r.last_row < row && !r.is_done) complete(r, root(run.region));
    free_.insert(free_.end(), merged_.begin(), merged_.end());
    merged_.clear();
    above_.swap(runs);
  }
  std::vector<Depression> finish() {
    add_row({}, frame_.rows());
    return std::move(list_);
  }

 private:
  struct Run {
    std::int64_t first, last;  // columns [first, last)
    std::size_t region;
  };
  struct Region {
    Depression found;
    std::vector<CellRun> runs;
    std::size_t parent = 0;
    std::int64_t last_row = -1;
    bool is_done = false;
  };

  std::size_t begin() {
    std::size_t i = regions_.size();
    if (free_.empty()) {
      regions_.emplace_back();
    } else {
      i = free_.back();
      free_.pop_back();
      regions_[i] = {};
    }
    regions_[i].parent = i;
    return i;
  }
  std::size_t root(std::size_t i) const {
    while (regions_[i].parent != i) i = regions_[i].parent;
    return i;
  }
  // Two regions are one, which keeps the place of the first.
  std::size_t joined(std::size_t a, std::size_t b) {
    if (a == b) return a;
    Depression &to = regions_[a].found, &from = regions_[b].found;
    to.cells += from.cells;
    to.area += from.area;
    to.volume += from.volume;
    if (std::tuple(-from.depth, from.row, from.col) < std::tuple(-to.depth, to.row, to.col)) {
      to.depth = from.depth;
      to.row = from.row;
      to.col = from.col;
    }
    std::vector<CellRun>&all = regions_[a].runs, &more = regions_[b].runs;
    if (all.size() < more.size()) all.swap(more);
    all.insert(all.end(), more.begin(), more.end());
    std::vector<CellRun>().swap(more);
    regions_[b].parent = a;
    merged_.push_back(b);
    return a;
  }
  void complete(Region& r, std::size_t i) {
    Depression& d = r.found;
    d.place = frame_.centre(static_cast<double>(d.col), static_cast<double>(d.row));
    d.sill = static_cast<double>(level_.at(d.col, d.row));
    if (shapes_) {
      std::sort(r.runs.begin(), r.runs.end());
      d.shape = outline_of(r.runs, frame_);
      std::vector<CellRun>().swap(r.runs);
    }
    list_.push_back(std::move(d));
    r.is_done = true;
    merged_.push_back(i);
  }

  Frame frame_;
  const Grid& level_;
  bool shapes_;
  std::vector<Region> regions_;
  std::vector<std::size_t> free_, merged_;  // places that may be used again: at once, and after this row
  std::vector<Run> above_;
  std::vector<Depression> list_;
};

// Of a band of rows.
struct RaisedRows {
  std::int64_t row = 0, rows = 0;
  std::vector<RaisedRun> runs;
  template <class Fields>
  void fields(Fields& f) {
    f(row, rows, runs);
  }
};

// With shapes on demand.
std::vector<Depression> find_depressions(const Grid& land, const Grid& level, bool shapes, const RunOptions& run) {
  DepressionFinder finder(land.frame(), level, shapes);
  const CellAreas areas(land.frame());
  const double vertical = metres_per(land.quantity().unit);
  share_bands<RaisedRows>(
      Grid(std::make_shared<LessSource>(level, land)), Planes::Values, 0, run,
      [&](const Block& depth, const Window& band) {
        return std::make_shared<RaisedRows>(RaisedRows{band.row, band.rows, raised_runs(depth, areas, vertical)});
      },
      [&](const RaisedRows& r) {
        auto from = r.runs.begin();
        for (std::int64_t row = r.row; row < r.row + r.rows; ++row) {
          const auto end = std::find_if(from, r.runs.end(), [&](const RaisedRun& run_of) { return run_of.row != row; });
          finder.add_row({from, end}, row);
          from = end;
        }
      });
  return finder.finish();
}

void by_sill(std::vector<Depression>& list) {
  std::sort(list.begin(), list.end(), [](const Depression& a, const Depression& b) {
    return std::tuple(-a.sill, a.row, a.col) < std::tuple(-b.sill, b.row, b.col);
  });
}

// Changed cells take the origin "filled" of a source of their own.
class DrainedSource final : public GridSource {
 public:
  DrainedSource(Grid level, Grid land, GridInfo info)
      : level_(std::move(level)), land_(std::move(land)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    level_.read_into({out.window, out.values, nullptr, out.stride});
    if (!out.origin) return;
    const Block own = land_.read(out.window, Planes::ValuesAndOrigin);
    const Origin changed = origin_code(static_cast<std::uint32_t>(info_.sources.size()), How::Filled);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        out.origin_row(r)[c] = std::isnan(own.at(c, r))        ? Origin{}
                               : own.at(c, r) == out.row(r)[c] ? own.origin_row(r)[c]
                                                               : changed;
  }

 private:
  Grid level_, land_;
  GridInfo info_;
};

bool says_which_stay(const DrainOptions& o) { return o.keep || o.keep_depth || o.keep_area; }

bool stays(const Depression& d, const DrainOptions& o, const std::optional<MultiPolygon>& keep) {
  if (keep && contains(*keep, d.place)) return true;
  if (!o.keep_depth && !o.keep_area) return false;
  return d.depth >= o.keep_depth.value_or(0) && d.area >= o.keep_area.value_or(0);
}

void require_options(const DrainOptions& o) {
  const auto require = [](bool good, const char* what, const char* advice) {
    if (!good) throw Error(ErrorCode::BadArgument, what, "depressions", advice);
  };
  require(!o.longest || o.longest->metres() > 0, "a channel must have a length", "take a length above zero");
  require(!o.deepest || *o.deepest > 0, "a channel must have a depth", "take a depth above zero");
  require(!o.keep_depth || *o.keep_depth > 0, "a depth that keeps a depression must be above zero",
          "take for instance 1m");
  require(!o.keep_area || *o.keep_area > 0, "an area that keeps a depression must be above zero",
          "take for instance 500m2");
}

// What water runs over before anything is done to it.
Grid bare_land(const Grid& surface, const DrainOptions& o) {
  const Grid land = without_sea(surface, o.sea, o.run);
  return o.voids == AtVoids::RunsAround ? with_walls(land, o.run) : land;
}

std::optional<MultiPolygon> kept_shape(const DrainOptions& o, const Crs& crs) {
  if (!o.keep) return std::nullopt;
  return o.keep->in(crs).shape();
}

// Channels from the depressions that are to be carved, each found on the land as it is.
std::vector<ChangedCell> channels_for(const Grid& land, const std::vector<const Depression*>& list,
                                      const DrainOptions& o, std::int64_t* carved) {
  const ChannelLimits limits = channel_limits(land, o.longest, o.deepest);
  using Cells = std::vector<ChangedCell>;
  Cells all;
  constexpr std::size_t kBatch = 64;
  using Batch = std::vector<Cells>;
  share_parts<Batch>((list.size() + kBatch - 1) / kBatch, o.run,
                     [&](std::size_t batch) {
                       Batch results;
                       for (std::size_t i = batch * kBatch; i < std::min(list.size(), (batch + 1) * kBatch); ++i) {
                         const Depression& d = *list[i];
                         ChannelLimits worth = limits;
                         if (o.way == TakeOut::Least) worth.volume = d.volume;
                         Channel c = cheapest_channel(land, d.col, d.row, worth);
                         const bool wanted = !c.cells.empty() && (o.way == TakeOut::Carve || c.volume < d.volume);
                         results.push_back(wanted ? std::move(c.cells) : Cells());
                       }
                       return results;
                     },
                     [&](std::size_t, const Batch& results) {
                       for (const Cells& cells : results) {
                         *carved += !cells.empty();
                         all.insert(all.end(), cells.begin(), cells.end());
                       }
                     });
  return deepest_of(std::move(all));
}

struct Changes {
  std::int64_t raised = 0, lowered = 0;
  double volume_raised = 0, volume_lowered = 0;
};

void count_changes(const Grid& drained, const Grid& land, const RunOptions& run, DrainReport& report) {
  using Rows = std::vector<Changes>;
  const CellAreas areas(land.frame());
  const double vertical = metres_per(land.quantity().unit);
  share_bands<Rows>(
      Grid(std::make_shared<LessSource>(drained, land)), Planes::Values, 0, run,
      [&](const Block& b, const Window& band) {
        auto rows = std::make_shared<Rows>(static_cast<std::size_t>(band.rows));
        for (std::int64_t r = 0; r < band.rows; ++r) {
          Changes& of_row = (*rows)[static_cast<std::size_t>(r)];
          std::optional<CellAreas::Row> area;
          for (std::int64_t c = 0; c < band.cols; ++c) {
            const auto change = static_cast<double>(b.at(c, r));
            if (std::isnan(change) || change == 0) continue;
            if (!area) area = areas.row(band.row + r);
            (change > 0 ? of_row.raised : of_row.lowered) += 1;
            (change > 0 ? of_row.volume_raised : of_row.volume_lowered) += std::abs(change) * vertical * area->at(c);
          }
        }
        return rows;
      },
      [&](const Rows& rows) {
        for (const Changes& c : rows) {
          report.cells_raised += c.raised;
          report.cells_lowered += c.lowered;
          report.volume_raised += c.volume_raised;
          report.volume_lowered += c.volume_lowered;
        }
      });
}

}  // namespace

TakeOut parse_take_out(std::string_view text) {
  return value_of<TakeOut>(kWaysOut, text, "is no way to take out depressions");
}

AtVoids parse_at_voids(std::string_view text) {
  return value_of<AtVoids>(kAtVoids, text, "is nothing that water does at voids");
}

std::vector<Depression> depressions(const Grid& surface, const DrainOptions& o) {
  require_heights(surface);
  require_options(o);
  Grid land = bare_land(surface, o);
  if (o.burn) land = with_cells(land, burnt_cells(land, *o.burn));
  std::vector<Depression> list = find_depressions(land, raised(land, o.run), true, o.run);
  if (says_which_stay(o)) {
    const auto keep = kept_shape(o, land.frame().crs());
    std::erase_if(list, [&](const Depression& d) { return !stays(d, o, keep); });
  }
  by_sill(list);
  return list;
}

Layer depression_layer(const std::vector<Depression>& list, const Grid& surface) {
  Layer layer{.name = "depressions", .crs = surface.frame().crs(), .features = {}};
  for (const Depression& d : list)
    layer.features.push_back({d.shape,
                              {{"sill", d.sill},
                               {"depth", d.depth},
                               {"unit", unit_name(surface.quantity())},
                               {"area_m2", d.area},
                               {"volume_m3", d.volume},
                               {"cells", d.cells},
                               {"deepest_x", d.place.x},
                               {"deepest_y", d.place.y}}});
  return layer;
}

Drained drained(const Grid& surface, const DrainOptions& o) {
  require_heights(surface);
  require_options(o);
  Drained out;
  const Grid original = bare_land(surface, o);
  Grid land = original;
  if (o.burn) {
    std::vector<ChangedCell> cells = burnt_cells(original, *o.burn);
    out.report.burnt = std::ssize(cells);
    land = with_cells(original, std::move(cells));
  }
  Grid level = raised(land, o.run);
  const std::vector<Depression> list = find_depressions(land, level, false, o.run);
  out.report.depressions = std::ssize(list);
  std::vector<Sink> sinks;
  std::vector<const Depression*> unreal;
  const auto keep = kept_shape(o, land.frame().crs());
  for (const Depression& d : list) {
    if (!says_which_stay(o) || !stays(d, o, keep)) {
      unreal.push_back(&d);
      continue;
    }
    sinks.push_back({d.col, d.row});
    out.kept.push_back(d);
  }
  by_sill(out.kept);
  std::vector<ChangedCell> channels;
  if (o.way != TakeOut::Fill) channels = channels_for(land, unreal, o, &out.report.carved);
  out.report.kept = std::ssize(out.kept);
  out.report.filled = std::ssize(unreal) - out.report.carved;
  const bool again = !sinks.empty() || !channels.empty();
  if (again) level = sunk(level, land, std::move(channels), sinks, o.run);
  GridInfo info = land.info();
  info.sources.push_back({.name = o.way == TakeOut::Fill ? "depressions: filled" : "depressions: filled or carved",
                          .survey = {},
                          .date = {},
                          .cell = ground_spacing(info.frame).x,
                          .treatment = {}});
  info.name = surface.info().name;
  if (is_integer(info.type) && o.way != TakeOut::Fill) {  // a channel falls by fractions
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  if (again || o.burn) {
    count_changes(level, original, o.run, out.report);
  } else {
    // All that was done is known of the depressions.
    for (const Depression& d : list) {
      out.report.cells_raised += d.cells;
      out.report.volume_raised += d.volume;
    }
  }
  out.surface = Grid(std::make_shared<DrainedSource>(level, original, std::move(info)));
  return out;
}

}  // namespace katoptra
