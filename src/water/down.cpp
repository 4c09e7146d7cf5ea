#include "down.hpp"

#include <algorithm>
#include <cmath>
#include <memory>
#include <unordered_map>
#include <utility>

#include "katoptra/base/parallel.hpp"

namespace katoptra {
namespace {

// The directions of a tile as an order in which every cell comes before the one it runs to.
class TileOrder {
 public:
  static constexpr std::int32_t kStops = -1, kLeavesTile = -2;

  TileOrder(const FlowPlanes& planes, const Window& tile)
      : planes_(planes), tile_(tile), code_(planes.direction.read(tile.grown(1), kVoidCell)) {
    const auto n = static_cast<std::size_t>(tile.cells());
    next_.assign(n, kStops);
    std::vector<std::uint8_t> before(n, 0);
    for (std::int64_t r = 0; r < tile.rows; ++r)
      for (std::int64_t c = 0; c < tile.cols; ++c) {
        const std::uint8_t code = this->code(c, r);
        if (!runs_on(code)) continue;
        const std::int64_t nc = c + kColStep[code - 1], nr = r + kRowStep[code - 1];
        const bool inside = nc >= 0 && nr >= 0 && nc < tile.cols && nr < tile.rows;
        next_[at(c, r)] = inside ? static_cast<std::int32_t>(at(nc, nr)) : kLeavesTile;
        if (inside) ++before[at(nc, nr)];
      }
    order_.reserve(n);
    for (std::size_t i = 0; i < n; ++i)
      if (before[i] == 0 && code_of(i) != kVoidCell) order_.push_back(static_cast<std::int32_t>(i));
    for (std::size_t k = 0; k < order_.size(); ++k)
      if (const std::int32_t to = next_[static_cast<std::size_t>(order_[k])];
          to >= 0 && --before[static_cast<std::size_t>(to)] == 0)
        order_.push_back(to);
  }

  const std::vector<std::int32_t>& order() const { return order_; }
  std::int32_t next(std::int32_t i) const { return next_[static_cast<std::size_t>(i)]; }
  std::size_t at(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>(r * tile_.cols + c); }
  std::uint8_t code(std::int64_t c, std::int64_t r) const { return raw(c, r) & kCodeBits; }
  std::uint8_t code_of(std::size_t i) const {
    return code(static_cast<std::int64_t>(i) % tile_.cols, static_cast<std::int64_t>(i) / tile_.cols);
  }
  // With what stands beside the code.
  std::uint8_t raw(std::int64_t c, std::int64_t r) const {
    return code_[static_cast<std::size_t>((r + 1) * (tile_.cols + 2) + c + 1)];
  }
  std::uint8_t raw_of(std::size_t i) const {
    return raw(static_cast<std::int64_t>(i) % tile_.cols, static_cast<std::int64_t>(i) / tile_.cols);
  }
  // Of the whole grid.
  std::int64_t number(std::int32_t i) const {
    return planes_.number(tile_.col + i % tile_.cols, tile_.row + i / tile_.cols);
  }
  // Where a cell that leaves the tile runs to.
  std::int64_t beyond(std::int32_t i) const {
    const std::uint8_t code = code_of(static_cast<std::size_t>(i));
    return number(i) + kRowStep[code - 1] * planes_.frame.cols() + kColStep[code - 1];
  }
  bool beside_void(std::int32_t i) const {
    const std::int64_t c = i % tile_.cols, r = i / tile_.cols;
    for (int k = 0; k < 8; ++k)
      if (raw(c + kColStep[k], r + kRowStep[k]) == kVoidCell) return true;
    return false;
  }
  // Cells of the tile that a cell outside runs to.
  std::vector<std::int32_t> entries() const {
    std::vector<std::int32_t> out;
    for (std::int64_t r = 0; r < tile_.rows; ++r)
      for (std::int64_t c = 0; c < tile_.cols;
           c += (r == 0 || r + 1 == tile_.rows || tile_.cols == 1) ? 1 : tile_.cols - 1)
        if (entered(c, r)) out.push_back(static_cast<std::int32_t>(at(c, r)));
    return out;
  }

 private:
  bool entered(std::int64_t c, std::int64_t r) const {
    for (int k = 0; k < 8; ++k) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      if (nc >= 0 && nr >= 0 && nc < tile_.cols && nr < tile_.rows) continue;
      if (code(nc, nr) == (k + 4) % 8 + 1) return true;
    }
    return false;
  }

  const FlowPlanes& planes_;
  Window tile_;
  std::vector<std::uint8_t> code_;
  std::vector<std::int32_t> next_, order_;
};

// What comes down to a cell.
struct Load {
  std::int64_t cells = 0, area = 0;
  bool cut_off = false;
  void add(const Load& o) {
    cells += o.cells;
    area += o.area;
    cut_off = cut_off || o.cut_off;
  }
};

// Water that enters a tile at a cell, and where the way from there leaves the tile again (-1: it does not).
struct Entry {
  Load load;
  std::int64_t onward = -1;
  std::int32_t waiting = 0;
};

class Sums {
 public:
  Sums(FlowPlanes& planes, const RunOptions& run) : planes_(planes), run_(run), areas_(planes.frame) {}

  void find(FlowReport& report) {
    choose_step();
    first_look();
    pass_on();
    write(report);
  }

 private:
  std::size_t in_flight() const { return static_cast<std::size_t>(2 * thread_count(run_)); }

  // The finest step, a power of two, with which the area of all cells stays below 2^61.
  void choose_step() {
    double widest = 0;
    for (std::int64_t r : {std::int64_t{0}, planes_.frame.rows() / 2, planes_.frame.rows() - 1})
      for (std::int64_t c : {std::int64_t{0}, planes_.frame.cols() / 2, planes_.frame.cols() - 1})
        if (const double area = areas_.row(r).at(c); std::isfinite(area)) widest = std::max(widest, area);
    const double all = 4 * std::max(widest, 1e-12) * static_cast<double>(planes_.frame.cols()) *
                       static_cast<double>(planes_.frame.rows());
    planes_.area_step = std::exp2(std::ceil(std::log2(all)) - 61);
  }

  std::vector<Load> own(const TileOrder& order, const Window& tile) const {
    std::vector<Load> loads(static_cast<std::size_t>(tile.cells()));
    const std::vector<std::int64_t> area = whole_areas(areas_, tile, planes_.area_step);
    for (std::size_t i = 0; i < loads.size(); ++i) {
      const std::uint8_t code = order.code_of(i);
      if (code == kVoidCell) continue;
      loads[i] = {1, area[i], code != kLeaves && order.beside_void(static_cast<std::int32_t>(i))};
    }
    return loads;
  }

  static void run_down(const TileOrder& order, std::vector<Load>& loads) {
    for (const std::int32_t i : order.order())
      if (const std::int32_t to = order.next(i); to >= 0)
        loads[static_cast<std::size_t>(to)].add(loads[static_cast<std::size_t>(i)]);
  }

  // What each tile sends on by itself, and where ways through it lead.
  void first_look() {
    struct Result {
      std::vector<std::pair<std::int64_t, Load>> sent;
      std::vector<std::pair<std::int64_t, std::int64_t>> ways;
    };
    parallel_ordered(
        planes_.tiling.count(), in_flight(), run_,
        [&](std::size_t t) -> std::shared_ptr<void> {
          const Window tile = planes_.tiling.window(t);
          const TileOrder order(planes_, tile);
          std::vector<Load> loads = own(order, tile);
          run_down(order, loads);
          auto out = std::make_shared<Result>();
          std::vector<std::int64_t> onward(loads.size(), -1);
          for (auto i = order.order().rbegin(); i != order.order().rend(); ++i) {
            const std::int32_t to = order.next(*i);
            std::int64_t& way = onward[static_cast<std::size_t>(*i)];
            if (to >= 0) way = onward[static_cast<std::size_t>(to)];
            if (to != TileOrder::kLeavesTile) continue;
            way = order.beyond(*i);
            out->sent.emplace_back(way, loads[static_cast<std::size_t>(*i)]);
          }
          for (const std::int32_t e : order.entries())
            out->ways.emplace_back(order.number(e), onward[static_cast<std::size_t>(e)]);
          return out;
        },
        [&](std::size_t, const std::shared_ptr<void>& made) {
          const Result& r = *static_cast<Result*>(made.get());
          for (const auto& [to, load] : r.sent) entries_[to].load.add(load);
          for (const auto& [at, onward] : r.ways) entries_[at].onward = onward;
        });
  }

  void pass_on() {
    for (auto& [at, e] : entries_)
      if (e.onward >= 0) ++entries_.at(e.onward).waiting;
    std::vector<std::int64_t> ready;
    for (auto& [at, e] : entries_)
      if (e.waiting == 0) ready.push_back(at);
    while (!ready.empty()) {
      const Entry& e = entries_.at(ready.back());
      ready.pop_back();
      if (e.onward < 0) continue;
      Entry& to = entries_.at(e.onward);
      to.load.add(e.load);
      if (--to.waiting == 0) ready.push_back(e.onward);
    }
  }

  void write(FlowReport& report) {
    std::int64_t area = 0, leaving = 0;
    parallel_ordered(
        planes_.tiling.count(), in_flight(), run_,
        [&](std::size_t t) -> std::shared_ptr<void> {
          const Window tile = planes_.tiling.window(t);
          const TileOrder order(planes_, tile);
          std::vector<Load> loads = own(order, tile);
          auto out = std::make_shared<FlowReport>();
          std::int64_t own_area = 0, gone = 0;
          for (const Load& l : loads) own_area += l.area;
          for (const std::int32_t e : order.entries())
            loads[static_cast<std::size_t>(e)].add(entries_.at(order.number(e)).load);
          run_down(order, loads);
          std::vector<float> cells, areas;
          std::vector<std::uint8_t> codes;
          for (std::size_t i = 0; i < loads.size(); ++i) {
            cells.push_back(static_cast<float>(loads[i].cells));
            areas.push_back(static_cast<float>(static_cast<double>(loads[i].area) * planes_.area_step));
            const std::uint8_t code = order.code_of(i);
            codes.push_back(static_cast<std::uint8_t>(order.raw_of(i) | (loads[i].cut_off ? kCutOffBit : 0)));
            out->cells += code != kVoidCell;
            out->leaving += code == kLeaves;
            out->ending += code == kEnds;
            out->cut_off += loads[i].cut_off;
            if (code == kLeaves || code == kEnds) gone += loads[i].area;
          }
          planes_.cells.write(tile, cells.data());
          planes_.area.write(tile, areas.data());
          planes_.direction.write(tile, codes.data());
          return std::make_shared<std::pair<FlowReport, std::pair<std::int64_t, std::int64_t>>>(
              *out, std::pair{own_area, gone});
        },
        [&](std::size_t, const std::shared_ptr<void>& made) {
          const auto& [part, sums] =
              *static_cast<std::pair<FlowReport, std::pair<std::int64_t, std::int64_t>>*>(made.get());
          report.cells += part.cells;
          report.leaving += part.leaving;
          report.ending += part.ending;
          report.cut_off += part.cut_off;
          area += sums.first;
          leaving += sums.second;
        });
    report.area = static_cast<double>(area) * planes_.area_step;
    report.leaving_area = static_cast<double>(leaving) * planes_.area_step;
  }

  FlowPlanes& planes_;
  const RunOptions& run_;
  CellAreas areas_;
  std::unordered_map<std::int64_t, Entry> entries_;
};

// Arrivals within a tile; of a cell whose way leaves it, the cell at which it enters the next.
struct Leg {
  std::int64_t station = -1, onward = -1, steps = 0;
};

std::vector<Leg> legs_of(const TileOrder& order, const FlowPlanes& planes, const Window& tile,
                         const std::vector<std::uint8_t>& station) {
  const StepLengths lengths(planes.frame, tile);
  std::vector<Leg> legs(static_cast<std::size_t>(tile.cells()));
  for (auto it = order.order().rbegin(); it != order.order().rend(); ++it) {
    const auto i = static_cast<std::size_t>(*it);
    Leg& leg = legs[i];
    if (station[i]) {
      leg.station = order.number(*it);
      continue;
    }
    const std::int32_t to = order.next(*it);
    if (to == TileOrder::kStops) continue;
    if (to >= 0)
      leg = legs[static_cast<std::size_t>(to)];
    else
      leg.onward = order.beyond(*it);
    leg.steps += lengths.at(*it / tile.cols, order.code_of(i));
  }
  return legs;
}

}  // namespace

std::vector<std::int64_t> whole_areas(const CellAreas& areas, const Window& w, double step, const Block* weights) {
  std::vector<std::int64_t> out;
  out.reserve(static_cast<std::size_t>(w.cells()));
  for (std::int64_t r = 0; r < w.rows; ++r) {
    const CellAreas::Row row = areas.row(w.row + r, w.col, w.col + w.cols);
    for (std::int64_t c = 0; c < w.cols; ++c) {
      const double area = row.at(w.col + c) * (weights ? static_cast<double>(weights->at(c, r)) : 1);
      out.push_back(std::isfinite(area) ? std::llround(area / step) : 0);
    }
  }
  return out;
}

void find_sums(FlowPlanes& planes, FlowReport& report, const RunOptions& run) { Sums(planes, run).find(report); }

StepLengths::StepLengths(const Frame& f, const Window& w) {
  const GroundRuler ruler(f.crs());
  for (std::int64_t r = 0; r < w.rows; ++r) {
    const GroundScale s = ruler.at(f.centre(static_cast<double>(f.cols()) / 2, static_cast<double>(w.row + r)));
    const double x = s.x * f.cell().x, y = s.y * f.cell().y;
    for (const double length : {x, y, std::hypot(x, y)}) lengths_.push_back(std::llround(length * kLengthSteps));
  }
}

void find_arrivals(const FlowPlanes& planes, const RunOptions& run,
                   const std::function<void(const Window&, std::vector<std::uint8_t>&)>& is_station,
                   const std::function<void(const Window&, const std::vector<Arrival>&)>& take) {
  const auto legs_in = [&](std::size_t t, const TileOrder& order) {
    const Window tile = planes.tiling.window(t);
    std::vector<std::uint8_t> station(static_cast<std::size_t>(tile.cells()), 0);
    is_station(tile, station);
    return legs_of(order, planes, tile, station);
  };
  const auto in_flight = static_cast<std::size_t>(2 * thread_count(run));
  std::unordered_map<std::int64_t, Leg> entries;
  parallel_ordered(
      planes.tiling.count(), in_flight, run,
      [&](std::size_t t) -> std::shared_ptr<void> {
        const TileOrder order(planes, planes.tiling.window(t));
        const std::vector<Leg> legs = legs_in(t, order);
        auto out = std::make_shared<std::vector<std::pair<std::int64_t, Leg>>>();
        for (const std::int32_t e : order.entries())
          out->emplace_back(order.number(e), legs[static_cast<std::size_t>(e)]);
        return out;
      },
      [&](std::size_t, const std::shared_ptr<void>& made) {
        for (const auto& [at, leg] : *static_cast<std::vector<std::pair<std::int64_t, Leg>>*>(made.get()))
          entries[at] = leg;
      });
  // Each way is followed once: what lies behind a cell is known when it is asked again.
  for (auto& [at, leg] : entries) {
    std::vector<std::int64_t> way;
    for (std::int64_t k = at; entries.at(k).onward >= 0; k = entries.at(k).onward) way.push_back(k);
    for (auto k = way.rbegin(); k != way.rend(); ++k) {
      Leg& l = entries.at(*k);
      const Leg& behind = entries.at(l.onward);
      l = {behind.station, -1, l.steps + behind.steps};
    }
  }
  parallel_ordered(
      planes.tiling.count(), in_flight, run,
      [&](std::size_t t) -> std::shared_ptr<void> {
        const TileOrder order(planes, planes.tiling.window(t));
        auto out = std::make_shared<std::vector<Arrival>>();
        for (const Leg& leg : legs_in(t, order)) {
          Arrival a{leg.station, leg.steps};
          if (leg.onward >= 0) {
            const Leg& behind = entries.at(leg.onward);
            a = {behind.station, leg.steps + behind.steps};
          }
          out->push_back(a);
        }
        return out;
      },
      [&](std::size_t t, const std::shared_ptr<void>& made) {
        take(planes.tiling.window(t), *static_cast<std::vector<Arrival>*>(made.get()));
      });
}

}  // namespace katoptra
