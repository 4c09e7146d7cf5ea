#include "katoptra/water/basins.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <unordered_map>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "base/shared_parts.hpp"
#include "down.hpp"
#include "outline.hpp"

namespace katoptra {
namespace {

// What a tile has of one basin.
struct BasinPart {
  std::int64_t cells = 0, area = 0;
  double heights = 0, slopes = 0;
  float lowest = 0, highest = 0;
  std::vector<CellRun> runs;
  template <class Fields>
  void fields(Fields& f) {
    f(cells, area, heights, slopes, lowest, highest, runs);
  }
};

class BasinFinder {
 public:
  BasinFinder(const Flow& flow, const BasinOptions& o)
      : flow_(flow),
        planes_(FlowAccess::planes(flow)),
        options_(o),
        label_(planes_.frame.cols(), planes_.frame.rows(), name()) {}

  std::vector<Basin> find() {
    if (options_.outlets.empty() == !(options_.from_area > 0))
      throw Error(ErrorCode::BadArgument, options_.outlets.empty() ? "no outlets" : "outlets and an area", "basins",
                  "give either outlets, or the area from which streams are streams");
    for (const Point p : options_.outlets) add_outlet(p);
    if (options_.from_area > 0) add_reaches();
    for (Basin& b : list_) describe_outlet(b);
    mark();
    measure();
    nest();
    return std::move(list_);
  }

 private:
  const std::string& name() const { return flow_.surface().info().name; }

  [[noreturn]] void refuse(Point p, const char* what, const char* advice) const {
    throw Error(ErrorCode::BadArgument, fmt::format("the outlet {:.10g},{:.10g} {}", p.x, p.y, what), name(), advice);
  }

  // The cell of most water within the distance, of equal ones the nearest.
  void add_outlet(Point p) {
    const Frame& f = planes_.frame;
    const double col = f.col_at(f.told_here(p.x)), row = f.row_at(p.y);
    if (!(col >= 0 && row >= 0 && col <= static_cast<double>(f.cols()) && row <= static_cast<double>(f.rows())))
      refuse(p, "lies outside the surface", "give a place on it");
    const GroundScale s = GroundRuler(f.crs()).at(p);
    const double far = options_.within.metres(), x = s.x * f.cell().x, y = s.y * f.cell().y;
    if (!(far >= 0 && far <= kFarthestOutlet * std::min(x, y)))
      throw Error(ErrorCode::BadArgument,
                  fmt::format("an outlet cannot be moved by {:g} m, which is below 0 or more than {} cells", far,
                              kFarthestOutlet),
                  name(), "take a shorter distance");
    const auto own_col = std::min(static_cast<std::int64_t>(col), f.cols() - 1),
               own_row = std::min(static_cast<std::int64_t>(row), f.rows() - 1);
    const auto reach = [&](double cell) {
      return std::max<std::int64_t>(static_cast<std::int64_t>(far / cell) + 1, kLookedAround);
    };
    const Window w =
        Window{own_col - reach(x), own_row - reach(y), 2 * reach(x) + 1, 2 * reach(y) + 1}.intersected(f.window());
    const std::vector<float> area = planes_.area.read(w, 0);
    std::int64_t at = -1;
    float best = 0, most = 0;
    double nearest = 0, most_at = 0;
    for (std::int64_t r = w.row; r < w.row + w.rows; ++r)
      for (std::int64_t c = w.col; c < w.col + w.cols; ++c) {
        const bool own = c == own_col && r == own_row;
        const double away =
            own ? 0 : std::hypot((static_cast<double>(c) + 0.5 - col) * x, (static_cast<double>(r) + 0.5 - row) * y);
        const float a = area[static_cast<std::size_t>((r - w.row) * w.cols + c - w.col)];
        if (a > most || (a == most && away < most_at)) {
          most = a;
          most_at = away;
        }
        if (a == 0 || (!own && away > far) || a < best || (a == best && at >= 0 && away >= nearest)) continue;
        best = a;
        at = planes_.number(c, r);
        nearest = away;
      }
    if (at < 0) refuse(p, "lies on a void", "give a place on the surface, or let it be moved farther");
    Basin b{.given = p};
    b.moved = nearest;
    b.most_near = static_cast<double>(most);
    b.most_at = most_at;
    add(at, std::move(b));
  }

  void add_reaches() {
    const StreamNet net = streams(flow_, {.from_area = options_.from_area, .run = options_.run});
    for (const Reach& r : net.reaches) {
      // A reach ends on the cell that it joins, which belongs to the next.
      const Point p = r.next == 0 || r.line.size() < 2 ? r.line.back() : r.line[r.line.size() - 2];
      const auto col = static_cast<std::int64_t>(std::floor(planes_.frame.col_at(p.x))),
                 row = static_cast<std::int64_t>(std::floor(planes_.frame.row_at(p.y)));
      add(planes_.number(col, row), {.given = p});
    }
    if (list_.empty())
      throw Error(ErrorCode::BadArgument, fmt::format("nowhere do {:g} m2 come together", options_.from_area), name(),
                  "take a smaller area");
  }

  void add(std::int64_t cell, Basin b) {
    if (!number_.emplace(cell, std::ssize(list_)).second)
      throw Error(ErrorCode::BadArgument,
                  fmt::format("the outlet {:.10g},{:.10g} comes to lie on the cell of another", b.given.x, b.given.y),
                  name(), "leave one of them out, or move them less far");
    b.number = std::ssize(list_) + 1;
    list_.push_back(std::move(b));
    cell_.push_back(cell);
  }

  Window cell_window(std::int64_t number) const {
    return {number % planes_.frame.cols(), number / planes_.frame.cols(), 1, 1};
  }

  void describe_outlet(Basin& b) const {
    const Window w = cell_window(cell_[static_cast<std::size_t>(b.number - 1)]);
    b.outlet = planes_.frame.centre(static_cast<double>(w.col), static_cast<double>(w.row));
    b.upstream_area = static_cast<double>(planes_.area.read(w, 0)[0]);
    b.cut_off = (planes_.direction->read(w, kVoidCell)[0] & kCutOffBit) != 0;
  }

  // Writes the basin of each cell, from 1, and its way to the outlet.
  void mark() {
    longest_.assign(list_.size(), 0);
    const std::vector<std::int64_t> sorted = [&] {
      auto s = cell_;
      std::sort(s.begin(), s.end());
      return s;
    }();
    behind_.assign(list_.size(), {});
    find_arrivals(
        planes_, options_.run,
        [&](const Window& w, std::vector<std::uint8_t>& station) {
          for (std::int64_t r = 0; r < w.rows; ++r) {
            const std::int64_t first = planes_.number(w.col, w.row + r);
            for (auto it = std::lower_bound(sorted.begin(), sorted.end(), first);
                 it != sorted.end() && *it < first + w.cols; ++it)
              station[static_cast<std::size_t>(r * w.cols + *it - first)] = 1;
          }
        },
        [&](const Window& w, const std::vector<Arrival>& arrivals) {
          std::vector<std::int32_t> label(arrivals.size(), 0);
          std::int64_t last = -1;
          std::size_t b = 0;
          for (std::size_t i = 0; i < label.size(); ++i) {
            if (arrivals[i].station < 0) continue;
            if (arrivals[i].station != last) {  // neighbours mostly drain to the same
              last = arrivals[i].station;
              b = static_cast<std::size_t>(number_.at(last));
            }
            label[i] = static_cast<std::int32_t>(b + 1);
            longest_[b] = std::max(longest_[b], arrivals[i].steps);
          }
          label_.write(w, label.data());
          for (const auto& [from, to] : onward_in(w)) {
            const auto i = static_cast<std::size_t>((to / planes_.frame.cols() - w.row) * w.cols +
                                                    to % planes_.frame.cols() - w.col);
            behind_[from] = arrivals[i];
          }
        });
  }

  // Of the outlets whose water runs on to a cell of the window: which, and that cell.
  std::vector<std::pair<std::size_t, std::int64_t>> onward_in(const Window& w) {
    if (onward_.empty())
      for (std::size_t k = 0; k < cell_.size(); ++k) {
        const std::uint8_t code = planes_.directions(cell_window(cell_[k]))[0];
        onward_.push_back(!runs_on(code) ? -1
                                         : cell_[k] + kRowStep[code - 1] * planes_.frame.cols() + kColStep[code - 1]);
        step_.push_back(!runs_on(code) ? 0 : StepLengths(planes_.frame, cell_window(cell_[k])).at(0, code));
      }
    std::vector<std::pair<std::size_t, std::int64_t>> out;
    for (std::size_t k = 0; k < onward_.size(); ++k)
      if (onward_[k] >= 0 && w.contains(cell_window(onward_[k]))) out.emplace_back(k, onward_[k]);
    return out;
  }

  void measure() {
    const Grid steep = slope(flow_.surface(), SlopeAs::Ratio);
    std::vector<std::vector<CellRun>> runs(list_.size());
    std::vector<BasinPart> sums(list_.size());
    std::vector<std::size_t> open;  // basins that have been met and may go on
    using Parts = std::map<std::int32_t, BasinPart>;
    share_parts<Parts>(
        planes_.tiling.count(), options_.run,
        [&](std::size_t t) {
          const Window w = planes_.tiling.window(t);
          const std::vector<std::int32_t> label = label_.read(w, 0);
          Parts parts;
          if (std::all_of(label.begin(), label.end(), [](std::int32_t l) { return l == 0; })) return parts;
          const std::vector<std::int64_t> area = whole_areas(areas_, w, planes_.area_step);
          const Block z = flow_.surface().read(w), s = steep.read(w);
          for (std::int64_t r = 0; r < w.rows; ++r)
            for (std::int64_t c = 0; c < w.cols; ++c) {
              const auto i = static_cast<std::size_t>(r * w.cols + c);
              if (label[i] == 0) continue;
              BasinPart& p = parts[label[i]];
              if (c == 0 || label[i - 1] != label[i]) p.runs.push_back({w.row + r, w.col + c, w.col + c});
              ++p.runs.back().last;
              p.lowest = p.cells == 0 ? z.at(c, r) : std::min(p.lowest, z.at(c, r));
              p.highest = p.cells == 0 ? z.at(c, r) : std::max(p.highest, z.at(c, r));
              ++p.cells;
              p.area += area[i];
              p.heights += static_cast<double>(z.at(c, r));
              p.slopes += static_cast<double>(s.at(c, r));
            }
          return parts;
        },
        [&](std::size_t t, const Parts& parts) {
          for (const auto& [label, p] : parts) {
            const auto b = static_cast<std::size_t>(label - 1);
            runs[b].insert(runs[b].end(), p.runs.begin(), p.runs.end());
            BasinPart& sum = sums[b];
            sum.lowest = sum.cells == 0 ? p.lowest : std::min(sum.lowest, p.lowest);
            sum.highest = sum.cells == 0 ? p.highest : std::max(sum.highest, p.highest);
            sum.cells += p.cells;
            sum.area += p.area;
            sum.heights += p.heights;
            sum.slopes += p.slopes;
            open.push_back(b);
          }
          // A basin hangs together: one that has nothing in the last row of cells is complete.
          if (const Window w = planes_.tiling.window(t); w.col + w.cols == planes_.frame.cols())
            describe_complete(w.row + w.rows - 1, open, sums, runs);
        });
    describe_complete(planes_.frame.rows(), open, sums, runs);
  }

  // Those of the open ones that do not reach the row; only of the others are runs kept.
  void describe_complete(std::int64_t row, std::vector<std::size_t>& open, const std::vector<BasinPart>& sums,
                         std::vector<std::vector<CellRun>>& runs) {
    std::sort(open.begin(), open.end());
    open.erase(std::unique(open.begin(), open.end()), open.end());
    std::erase_if(open, [&](std::size_t b) {
      if (std::any_of(runs[b].begin(), runs[b].end(), [&](const CellRun& r) { return r.row >= row; })) return false;
      describe(list_[b], sums[b], std::exchange(runs[b], {}));
      return true;
    });
  }

  void describe(Basin& b, const BasinPart& p, std::vector<CellRun> runs) const {
    const auto n = static_cast<double>(p.cells);
    b.cells = p.cells;
    b.area = static_cast<double>(p.area) * planes_.area_step;
    b.lowest = static_cast<double>(p.lowest);
    b.highest = static_cast<double>(p.highest);
    b.mean_height = p.heights / n;
    b.mean_slope = p.slopes / n;
    const double relief = b.highest - b.lowest;
    b.hypsometric = relief > 0 ? (b.mean_height - b.lowest) / relief : 0;
    b.shape = outline_of(joined(std::move(runs)), planes_.frame);
  }

  // Runs that tiles had cut, in order.
  static std::vector<CellRun> joined(std::vector<CellRun> runs) {
    std::sort(runs.begin(), runs.end());
    std::vector<CellRun> out;
    for (const CellRun& r : runs) {
      if (!out.empty() && out.back().row == r.row && out.back().last == r.first)
        out.back().last = r.last;
      else
        out.push_back(r);
    }
    return out;
  }

  // Which basin each one drains on to, and how long the longest way to its outlet is with those above it.
  void nest() {
    std::vector<int> waiting(list_.size(), 0);
    for (std::size_t k = 0; k < list_.size(); ++k) {
      if (onward_[k] < 0 || behind_[k].station < 0) continue;
      const auto to = static_cast<std::size_t>(number_.at(behind_[k].station));
      list_[k].next = static_cast<std::int64_t>(to) + 1;
      ++waiting[to];
    }
    std::vector<std::size_t> ready;
    for (std::size_t k = 0; k < list_.size(); ++k)
      if (waiting[k] == 0) ready.push_back(k);
    while (!ready.empty()) {
      const std::size_t k = ready.back();
      ready.pop_back();
      list_[k].longest_path = static_cast<double>(longest_[k]) / kLengthSteps;
      if (list_[k].next == 0) continue;
      const auto to = static_cast<std::size_t>(list_[k].next - 1);
      longest_[to] = std::max(longest_[to], longest_[k] + step_[k] + behind_[k].steps);
      if (--waiting[to] == 0) ready.push_back(to);
    }
  }

  const Flow& flow_;
  const FlowPlanes& planes_;
  const BasinOptions& options_;
  CellAreas areas_{planes_.frame};
  ScratchPlane<std::int32_t> label_;
  std::vector<Basin> list_;
  std::vector<std::int64_t> cell_, onward_, step_, longest_;
  std::vector<Arrival> behind_;  // of the cell that an outlet runs on to
  std::unordered_map<std::int64_t, std::int64_t> number_;
};

}  // namespace

std::vector<Point> places_of(const Layer& layer, const Crs& crs) {
  std::optional<Transform> there;
  if (layer.crs && crs && !layer.crs.same_place(crs)) there.emplace(layer.crs, crs);
  std::vector<Point> places;
  for (const Feature& feature : layer.features)
    if (const auto* p = std::get_if<Point>(&feature.geometry)) places.push_back(there ? there->forward(*p) : *p);
  return places;
}

std::vector<Basin> basins(const Flow& flow, const BasinOptions& options) { return BasinFinder(flow, options).find(); }

Layer basin_layer(const std::vector<Basin>& list, const Flow& flow) {
  Layer layer{.name = "basins", .crs = flow.surface().frame().crs(), .features = {}};
  for (const Basin& b : list)
    layer.features.push_back({b.shape,
                              {{"number", b.number},
                               {"next", b.next},
                               {"area_m2", b.area},
                               {"upstream_m2", b.upstream_area},
                               {"lowest", b.lowest},
                               {"highest", b.highest},
                               {"mean_height", b.mean_height},
                               {"relief", b.highest - b.lowest},
                               {"hypsometric_integral", b.hypsometric},
                               {"unit", unit_name(flow.surface().quantity())},
                               {"mean_slope", b.mean_slope},
                               {"longest_path_m", b.longest_path},
                               {"outlet_x", b.outlet.x},
                               {"outlet_y", b.outlet.y},
                               {"moved_m", b.moved},
                               {"cut_off", std::int64_t{b.cut_off}}}});
  return layer;
}

}  // namespace katoptra
