#include "katoptra/surface/fill.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <mutex>
#include <set>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/surface/reproject.hpp"

#include "fill_trials.hpp"
#include "grid/error_kernel.hpp"
#include "stream_beds.hpp"
#include "void_shape.hpp"
#include "wide_membrane.hpp"
#include "wide_plate.hpp"

namespace katoptra {
namespace {

// Names of the sources that filled cells come from, by Treatment.
std::string way_name(Treatment t, const std::string& second) {
  switch (t) {
    case Treatment::Mean:
      return "window mean";
    case Treatment::Distance:
      return "inverse distance";
    case Treatment::Membrane:
      return "membrane";
    case Treatment::Smooth:
      return "smooth surface";
    case Treatment::Tin:
      return "triangles";
    case Treatment::Second:
      return second;
    case Treatment::Leave:
      break;
  }
  return "";
}

// What a grid lies off another by.
class OffSource final : public GridSource {
 public:
  OffSource(Grid grid, Grid other) : grid_(std::move(grid)), other_(std::move(other)) {}
  const GridInfo& info() const override { return grid_.info(); }
  void read(const BlockView& out) const override {
    grid_.read_into(out);
    const Block other = other_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) out.row(r)[c] -= other.at(c, r);
  }

 private:
  Grid grid_, other_;
};

// Voids, how each is closed, and what that takes: shared by whoever reads the grid.
class Filling {
 public:
  Filling(Grid input, VoidMap map, const FillOptions& options, std::optional<Grid> second)
      : input_(std::move(input)),
        second_(std::move(second)),
        map_(std::move(map)),
        voids_(map_),
        options_(options),
        ruler_(input_.frame().crs()),
        rims_(map_.regions.size()),
        wide_(map_.regions.size()),
        once_(map_.regions.size()),
        owner_(BlockCache::shared().new_owner()) {
    const GroundSpacing s = ground_spacing(input_.frame());
    blend_ = options.blend / std::min(s.x, s.y);
  }
  ~Filling() { BlockCache::shared().forget(owner_); }
  Filling(const Filling&) = delete;
  Filling& operator=(const Filling&) = delete;

  const Grid& input() const { return input_; }
  const VoidMap& map() const { return map_; }
  const VoidCells& voids() const { return voids_; }
  std::vector<Treatment> treatment;

  // Everything of a region that is solved as a whole: heights, then how deep each cell lies.
  struct Solution {
    BlockCache::Entry bytes;
    std::size_t cells = 0;
    float height(std::size_t i) const { return at<float>(4 * i); }
    std::uint16_t depth(std::size_t i) const { return at<std::uint16_t>(4 * cells + 2 * i); }

   private:
    template <class T>
    T at(std::size_t byte) const {
      T v;
      std::memcpy(&v, bytes->data() + byte, sizeof v);
      return v;
    }
  };
  Solution solution(std::uint32_t region) const {
    const auto n = static_cast<std::size_t>(map_.regions[region].cells);
    return {BlockCache::shared().get(owner_, region, [&] { return solve(region); }), n};
  }

  float by_distance(std::uint32_t region, std::int64_t c, std::int64_t r) const {
    std::call_once(once_[region], [&] {
      const auto cells = voids_.rim_of(region, input_.frame().cols(), input_.frame().rows());
      const std::vector<float> z = values_at(input_, place(region), cells);
      std::vector<std::array<float, 3>> rim;
      for (std::size_t i = 0; i < z.size(); ++i)
        rim.push_back({static_cast<float>(cells[i].col), static_cast<float>(cells[i].row), z[i]});
      rims_[region] = std::make_unique<RimField>(std::move(rim), static_cast<float>(aspect(region)));
    });
    const Window& box = map_.regions[region].box;
    return rims_[region]->at(static_cast<float>(c - box.col + 1), static_cast<float>(r - box.row + 1));
  }

  // Heights of cells of a row of a void beyond kSolvedCells, and how deep they lie where that is asked for.
  void read_wide(std::uint32_t region, std::int64_t col, std::int64_t row, std::span<float> out,
                 std::vector<std::uint16_t>& depths) const {
    const WideSurface& w = wide(region);
    const bool second = treatment[region] == Treatment::Second;
    w.read(col, row, out);
    if (!depths.empty() || (second && blend_ > 0)) {
      depths.resize(out.size());
      w.read_depths(col, row, depths);
    }
    if (!second) return;
    const Block under = second_->read({col, row, static_cast<std::int64_t>(out.size()), 1});
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = bent_onto(under.row(0)[i], static_cast<double>(out[i]), w.mean(),
                         blend_ > 0 ? depths[i] : std::uint16_t{1}, blend_);
  }

  // What the second surface has of a void: all of it with its rim, some of its cells, or nothing.
  enum class Cover { None, Part, Whole };
  Cover cover(std::uint32_t region) const {
    if (map_.regions[region].cells > kSolvedCells) return cover_of_wide(region);
    const VoidShape s = shape(region);
    const auto is_void = [](float v) { return std::isnan(v); };
    const std::vector<float> cells = values_at(*second_, place(region), s.cells);
    if (std::all_of(cells.begin(), cells.end(), is_void)) return Cover::None;
    if (std::any_of(cells.begin(), cells.end(), is_void)) return Cover::Part;
    const std::vector<float> rim = values_at(*second_, place(region), s.rim);
    return std::any_of(rim.begin(), rim.end(), is_void) ? Cover::Part : Cover::Whole;
  }

  const FillTrials& trials() const {
    std::call_once(tried_, [&] {
      trials_.emplace(
          voids_, FillTrials::Setting{.grid = input_,
                                      .second = second_,
                                      .aspect = [this](std::uint32_t i) { return aspect(i); },
                                      .counts = [this](std::uint32_t i) { return treatment[i] != Treatment::Leave; },
                                      .small = options_.small,
                                      .blend = blend_,
                                      .run = options_.run});
    });
    return *trials_;
  }

 private:
  const WideSurface& wide(std::uint32_t region) const {
    std::call_once(once_[region], [&] {
      if (treatment[region] == Treatment::Smooth) {
        wide_[region] = std::make_unique<WidePlate>(voids_, region, input_, aspect(region));
        return;
      }
      const Grid rim =
          treatment[region] == Treatment::Second ? Grid(std::make_shared<OffSource>(input_, *second_)) : input_;
      wide_[region] = std::make_unique<WideMembrane>(voids_, region, rim, aspect(region));
    });
    return *wide_[region];
  }
  // The same band by band; the rim is what lies beside a cell of the void.
  Cover cover_of_wide(std::uint32_t region) const {
    const Window box = place(region).intersected(input_.frame().window());
    const std::int64_t rows = std::max<std::int64_t>(1, (std::int64_t{1} << 21) / box.cols);
    bool any = false, all = true;
    for (std::int64_t first = box.row; first < box.row + box.rows; first += rows) {
      const Window band = Window{box.col, first, box.cols, std::min(rows, box.row + box.rows - first)};
      const Block z = second_->read(band.grown(1).intersected(input_.frame().window()));
      const Window& w = z.window();
      for (std::int64_t row = band.row; row < band.row + band.rows; ++row)
        voids_.for_runs(row, box.col, box.col + box.cols, [&](const VoidRun& run, std::size_t) {
          if (run.region != region) return;
          for (std::int64_t r = std::max(w.row, row - 1); r <= std::min(w.row + w.rows - 1, row + 1); ++r)
            for (std::int64_t c = std::max(w.col, run.first - 1); c < std::min(w.col + w.cols, run.last + 1); ++c) {
              const bool known = !std::isnan(z.at(c - w.col, r - w.row));
              any = any || known;
              all = all && known;
            }
        });
    }
    return all ? Cover::Whole : any ? Cover::Part : Cover::None;
  }
  Window place(std::uint32_t region) const { return map_.regions[region].box.grown(1); }
  VoidShape shape(std::uint32_t region) const {
    return voids_.shape_of(region, input_.frame().cols(), input_.frame().rows(), aspect(region));
  }
  // How much wider a cell is on the ground than it is high, there: distances are those on the ground.
  double aspect(std::uint32_t region) const {
    const Window& box = map_.regions[region].box;
    const GroundScale s = ruler_.at(input_.frame().sub(box).bounds().centre());
    return static_cast<double>(static_cast<float>(input_.frame().cell().x * s.x / (input_.frame().cell().y * s.y)));
  }

  BlockCache::Bytes solve(std::uint32_t region) const {
    const VoidShape s = shape(region);
    const std::vector<std::uint16_t> depths = depths_of(s);
    std::vector<float> z(s.cells.size(), kVoid);
    if (const Treatment t = treatment[region]; is_solved_whole(t)) {
      VoidSurrounds around{.rim = values_at(input_, place(region), s.rim),
                           .second_rim = {},
                           .second_cells = {},
                           .beyond = [&](const auto& cells) { return values_at(input_, place(region), cells); }};
      if (t == Treatment::Second) {
        around.second_rim = values_at(*second_, place(region), s.rim);
        around.second_cells = values_at(*second_, place(region), s.cells);
      }
      z = closed_by(t, s, around, depths, blend_);
    }
    BlockCache::Bytes bytes(6 * s.cells.size(), 0);
    std::memcpy(bytes.data(), z.data(), 4 * z.size());
    std::memcpy(bytes.data() + 4 * z.size(), depths.data(), 2 * depths.size());
    return bytes;
  }

  Grid input_;
  std::optional<Grid> second_;
  VoidMap map_;
  VoidCells voids_;
  FillOptions options_;
  GroundRuler ruler_;
  double blend_ = 0;
  mutable std::vector<std::unique_ptr<RimField>> rims_;
  mutable std::vector<std::unique_ptr<WideSurface>> wide_;
  mutable std::vector<std::once_flag> once_;
  mutable std::once_flag tried_;
  mutable std::optional<FillTrials> trials_;
  std::uint64_t owner_;
};

class FillSource final : public GridSource {
 public:
  // `sources`: the number of the source of each way, by Treatment.
  FillSource(std::shared_ptr<const Filling> filling, GridInfo info,
             std::array<std::uint32_t, FillTrials::kWays> sources)
      : filling_(std::move(filling)), info_(std::move(info)), sources_(sources) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return filling_->input().carries_uncertainty(); }

  void read(const BlockView& out) const override {
    filling_->input().read_into(out);
    const Window& w = out.window;
    Held held;
    for (std::int64_t r = 0; r < w.rows; ++r)
      filling_->voids().for_runs(w.row + r, w.col, w.col + w.cols, [&](const VoidRun& run, std::size_t before) {
        if (filling_->treatment[run.region] != Treatment::Leave) close(run, before, r, held, out);
      });
  }

 private:
  // What runs of one block share.
  struct Held {
    Block around;              // the input with a margin of three cells, read only when a mean needs it
    std::int64_t region = -1;  // which is solved
    Filling::Solution solved;
  };
  // The cells of a run in row `r` of the block; `before`: the number of its first cell within its void.
  void close(const VoidRun& run, std::size_t before, std::int64_t r, Held& held, const BlockView& out) const {
    const Filling& f = *filling_;
    const Window& w = out.window;
    const Treatment t = f.treatment[run.region];
    const std::int64_t first = std::max(w.col, run.first), last = std::min(w.col + w.cols, run.last),
                       cells = f.map().regions[run.region].cells;
    const bool large = cells > kSolvedCells, wide = large && is_solved_whole(t), whole = is_solved_whole(t) && !wide;
    // How deep cells lie in a void beyond that size is known where it was solved, else its uncertainty is not.
    const bool known_depths = out.uncertainty && (!large || wide);
    if ((whole || (known_depths && !wide)) && held.region != std::int64_t{run.region}) {
      held.solved = f.solution(run.region);
      held.region = run.region;
    }
    if (t == Treatment::Mean && held.around.window().empty()) held.around = f.input().read(w.grown(3));
    std::vector<float> heights(wide ? static_cast<std::size_t>(last - first) : 0);
    std::vector<std::uint16_t> depths(wide && known_depths ? heights.size() : 0);
    if (wide) f.read_wide(run.region, first, w.row + r, heights, depths);
    for (std::int64_t c = first; c < last; ++c) {
      const auto i = before + static_cast<std::size_t>(c - run.first), k = static_cast<std::size_t>(c - first);
      Treatment by = t;
      float z = wide                   ? heights[k]
                : whole                ? held.solved.height(i)
                : t == Treatment::Mean ? window_mean(held.around, c - w.col + 3, r + 3)
                                       : kVoid;
      // In the middle of a void that is wider than the widest window there is nothing to take a mean of.
      if (!whole && !wide && std::isnan(z)) {
        by = Treatment::Distance;
        z = f.by_distance(run.region, c, w.row + r);
      }
      if (std::isnan(z)) continue;
      out.row(r)[c - w.col] = z;
      if (out.origin) out.origin_row(r)[c - w.col] = origin_code(sources_[static_cast<std::size_t>(by)], How::Filled);
      if (known_depths)
        out.uncertainty_row(r)[c - w.col] = rounded_uncertainty(
            static_cast<double>(f.trials().error(cells, by, wide ? depths[k] : held.solved.depth(i))));
    }
  }

  std::shared_ptr<const Filling> filling_;
  GridInfo info_;
  std::array<std::uint32_t, FillTrials::kWays> sources_;
};

// The second surface on the cells of the first, in its unit and above the same.
Grid on_lattice_of(const Grid& grid, const Grid& second) {
  const Quantity &q = grid.quantity(), &o = second.quantity();
  if (q.kind != o.kind)
    throw Error(ErrorCode::Refused, fmt::format("holds {}, and {} is to be filled", name_of(o.kind), name_of(q.kind)),
                second.info().name, "give a surface of the same");
  if (q.heights.known() && o.heights.known() && !(q.heights == o.heights))
    throw Error(
        ErrorCode::Refused,
        fmt::format("its heights are above {}, those to be filled above {}", o.heights.name(), q.heights.name()),
        second.info().name, "bring both to one reference (--heights)");
  const Grid here = q.kind == QuantityKind::Height ? in_unit(second, q.unit) : second;
  if (const auto at = grid.frame().window_of(here.frame()); at && *at == grid.frame().window()) return here;
  return reproject(here, grid.frame(), resolved(Resampling::Automatic, here, grid.frame()));
}

// A plate that is held on one side only goes on straight without end.
bool may_be_smooth(const VoidRegion& v) { return !v.at_edge; }

// Closed in a temporary file.
bool is_wide(const VoidRegion& v) {
  constexpr std::int64_t kWidestBox = 4'000'000'000;
  return v.cells > kSolvedCells && v.box.cells() <= kWidestBox;
}

// How each void is closed, before anything is tried: its size, where it lies, what was asked for.
std::vector<Treatment> first_treatments(const Filling& f, const FillOptions& options, FillReport& report) {
  const Frame& frame = f.input().frame();
  const GroundSpacing spacing = ground_spacing(frame);
  std::vector<Treatment> out;
  for (const VoidRegion& v : f.map().regions) {
    const Length side = Length::metres(std::max(static_cast<double>(v.box.cols) * spacing.x.metres(),
                                                static_cast<double>(v.box.rows) * spacing.y.metres()));
    const bool large = options.largest ? side > *options.largest : std::max(v.box.cols, v.box.rows) > 100;
    // A grid without a single value has no rim to fill from.
    const bool all = v.cells == frame.cols() * frame.rows();
    Treatment t = options.method == FillMethod::Distance ? Treatment::Distance
                  : options.method == FillMethod::Membrane || options.method == FillMethod::Automatic
                      ? Treatment::Membrane
                  : options.method == FillMethod::Smooth ? Treatment::Smooth
                  : options.method == FillMethod::Tin    ? Treatment::Tin
                  : v.cells <= options.small             ? Treatment::Mean
                                                         : Treatment::Distance;
    if (t == Treatment::Smooth && !may_be_smooth(v)) t = Treatment::Membrane;
    if (is_solved_whole(t) && v.cells > kSolvedCells)
      t = !is_wide(v) ? Treatment::Distance : t == Treatment::Tin ? Treatment::Membrane : t;
    if ((v.at_edge && !options.edges) || all) {
      t = Treatment::Leave;
      ++report.voids_left_at_edge;
    } else if (large) {
      t = Treatment::Leave;
      ++report.voids_left_large;
    }
    out.push_back(t);
    if (t == Treatment::Leave) {
      report.cells_left += v.cells;
      report.largest_left = std::max(report.largest_left, side);
      continue;
    }
    ++report.voids_closed;
    report.cells_closed += v.cells;
    report.largest_closed = std::max(report.largest_closed, side);
  }
  return out;
}

// Voids by the second surface where it covers them, and by the way that erred least where that was asked for.
void choose_ways(Filling& f, const FillOptions& options, FillReport& report) {
  const auto& regions = f.map().regions;
  for (std::uint32_t i = 0; options.second && i < regions.size(); ++i) {
    if (f.treatment[i] == Treatment::Leave || (regions[i].cells > kSolvedCells && !is_wide(regions[i]))) continue;
    const Filling::Cover cover = f.cover(i);
    if (cover == Filling::Cover::Whole) f.treatment[i] = Treatment::Second;
    report.voids_second_misses += cover == Filling::Cover::Part;
  }
  if (options.method == FillMethod::Automatic)
    for (std::uint32_t i = 0; i < regions.size(); ++i) {
      if (f.treatment[i] == Treatment::Leave) continue;
      std::vector<Treatment> ways{Treatment::Distance};
      if (is_wide(regions[i])) ways.push_back(Treatment::Membrane);
      if (regions[i].cells <= kSolvedCells)
        for (const Treatment t : {Treatment::Membrane, Treatment::Tin}) ways.push_back(t);
      if (may_be_smooth(regions[i]) && regions[i].cells <= kSmoothCells) ways.push_back(Treatment::Smooth);
      if (regions[i].cells <= options.small) ways.push_back(Treatment::Mean);
      if (f.treatment[i] == Treatment::Second) ways.push_back(Treatment::Second);
      f.treatment[i] = f.trials().best(regions[i].cells, ways).value_or(f.treatment[i]);
    }
  for (const Treatment t : f.treatment) {
    report.voids_by_mean += t == Treatment::Mean;
    report.voids_by_distance += t == Treatment::Distance;
    report.voids_by_membrane += t == Treatment::Membrane;
    report.voids_by_smooth += t == Treatment::Smooth;
    report.voids_by_tin += t == Treatment::Tin;
    report.voids_from_second += t == Treatment::Second;
  }
}

}  // namespace

FillMethod parse_fill_method(std::string_view text) {
  if (text == "usual") return FillMethod::Usual;
  if (text == "distance") return FillMethod::Distance;
  if (text == "membrane") return FillMethod::Membrane;
  if (text == "smooth") return FillMethod::Smooth;
  if (text == "tin") return FillMethod::Tin;
  if (text == "auto") return FillMethod::Automatic;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no way to close voids", text), "method",
              "take usual, distance, membrane, smooth, tin or auto");
}

std::string ways_of(const FillReport& p) {
  std::string text;
  for (const auto& [n, by] : {std::pair{p.voids_by_mean, "by window mean"},
                              {p.voids_by_distance, "by inverse distance"},
                              {p.voids_by_membrane, "by membrane"},
                              {p.voids_by_smooth, "by a smooth surface"},
                              {p.voids_by_tin, "by triangles"},
                              {p.voids_from_second, "from the second surface"}})
    if (n > 0) text += fmt::format("{}{} {}", text.empty() ? "" : ", ", n, by);
  return text.empty() ? "" : " (" + text + ")";
}

FillResult fill_voids(const Grid& given, const FillOptions& options) {
  if (options.largest && !(options.largest->metres() > 0))
    throw Error(ErrorCode::BadArgument, "the largest void to close must be longer than zero", "fill");
  if (!(options.blend.metres() >= 0))
    throw Error(ErrorCode::BadArgument, "a surface cannot be bent over less than nothing", "fill", "give a length");
  const StreamBeds beds = options.streams ? with_stream_beds(given, *options.streams) : StreamBeds{given};
  const Grid& grid = beds.grid;
  std::optional<Grid> second;
  if (options.second) second = on_lattice_of(grid, *options.second);
  const auto filling = std::make_shared<Filling>(grid, find_voids(grid, options.run), options, second);
  FillResult result;
  FillReport& report = result.report;
  report.stream_cells = beds.cells;
  report.stream_crossings = beds.crossings;
  filling->treatment = first_treatments(*filling, options, report);
  choose_ways(*filling, options, report);
  GridInfo info = grid.info();
  const std::string other = options.second ? options.second->info().name + ", bent onto the rim" : "";
  std::array<std::uint32_t, FillTrials::kWays> sources{};
  const auto add = [&](Treatment t) {
    info.sources.push_back({.name = "fill: " + way_name(t, other),
                            .survey = {},
                            .date = {},
                            .cell = ground_spacing(grid.frame()).y,
                            .treatment = {}});
    sources[static_cast<std::size_t>(t)] = static_cast<std::uint32_t>(info.sources.size());
  };
  add(Treatment::Mean);
  add(Treatment::Distance);
  if (report.voids_by_membrane > 0) add(Treatment::Membrane);
  if (report.voids_by_smooth > 0) add(Treatment::Smooth);
  if (report.voids_by_tin > 0) add(Treatment::Tin);
  if (report.voids_from_second > 0) add(Treatment::Second);
  if (options.method == FillMethod::Automatic) {
    std::vector<std::string> names;
    for (std::size_t t = 0; t < FillTrials::kWays; ++t) names.push_back(way_name(static_cast<Treatment>(t), other));
    std::set<std::pair<std::size_t, Treatment>> taken;
    for (std::uint32_t i = 0; i < filling->treatment.size(); ++i)
      taken.insert({size_class(filling->map().regions[i].cells), filling->treatment[i]});
    report.trials = filling->trials().told(names, [&](std::size_t size, Treatment t) {
      return taken.contains({size, t});
    });
  }
  if (report.cells_closed + beds.cells > 0 && is_integer(given.info().type)) {
    info.notes.push_back(std::string("filling makes fractions of ") + name_of(given.info().type) +
                         " values: written as float32");
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  if (report.voids_second_misses > 0)
    info.notes.push_back(fmt::format("{} covers {} of the voids only in part: {} closed without it",
                                     options.second->info().name, report.voids_second_misses,
                                     report.voids_second_misses == 1 ? "it was" : "they were"));
  result.grid = Grid(std::make_shared<FillSource>(filling, std::move(info), sources));
  return result;
}

}  // namespace katoptra
