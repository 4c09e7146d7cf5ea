#include "down.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <utility>

#include "base/shared_parts.hpp"

namespace katoptra {
namespace {

// Beside the code: a cell around the tile, of which only the direction is known.
constexpr std::uint8_t kAroundBit = 64;

// The directions of a tile and of a cell more on every side. Cells are numbered with those around, row by row.
class TileCodes {
 public:
  // `known`: as far as directions are known.
  TileCodes(const FlowPlanes& planes, const FlowPlanes::Codes& known, const Window& tile)
      : planes_(planes), tile_(tile), wide_(tile.cols + 2), code_(known.read(tile.grown(1), kVoidCell)) {
    for (int k = 0; k < 8; ++k) step_[static_cast<std::size_t>(k) + 1] = kRowStep[k] * wide_ + kColStep[k];
    // What neighbours have found out meanwhile is not looked at.
    for (std::uint8_t& c : code_) c &= kCodeBits | kLevelBit;
    for (std::int64_t c = 0; c < wide_; ++c) {
      code_[static_cast<std::size_t>(c)] |= kAroundBit;
      code_[static_cast<std::size_t>((tile.rows + 1) * wide_ + c)] |= kAroundBit;
    }
    for (std::int64_t r = 0; r < tile.rows + 2; ++r) {
      code_[static_cast<std::size_t>(r * wide_)] |= kAroundBit;
      code_[static_cast<std::size_t>((r + 1) * wide_ - 1)] |= kAroundBit;
    }
  }

  std::size_t size() const { return code_.size(); }
  const Window& tile() const { return tile_; }
  std::size_t place(std::int64_t col, std::int64_t row) const {
    return static_cast<std::size_t>((row + 1) * wide_ + col + 1);
  }
  // Of a cell of the whole grid, within the tile or around it.
  std::size_t place_of(std::int64_t number) const {
    return place(number % planes_.frame.cols() - tile_.col, number / planes_.frame.cols() - tile_.row);
  }
  std::int64_t number(std::size_t i) const {
    const auto at = static_cast<std::int64_t>(i);
    return planes_.number(tile_.col + at % wide_ - 1, tile_.row + at / wide_ - 1);
  }
  std::uint8_t code(std::size_t i) const { return code_[i] & kCodeBits; }
  bool is_around(std::size_t i) const { return (code_[i] & kAroundBit) != 0; }
  // Where a cell that runs on runs to.
  std::size_t to(std::size_t i) const {
    return static_cast<std::size_t>(static_cast<std::int64_t>(i) + step_[code(i)]);
  }
  // Bits beside the codes.
  bool has(std::size_t i, std::uint8_t bit) const { return (code_[i] & bit) != 0; }
  void pass_bit(std::size_t from, std::size_t to, std::uint8_t bit) {
    code_[to] |= static_cast<std::uint8_t>(code_[from] & bit);
  }
  void set(std::size_t i, std::uint8_t bit) { code_[i] |= bit; }
  // As it is written.
  std::uint8_t whole(std::size_t i) const { return static_cast<std::uint8_t>(code_[i] & ~kAroundBit); }

  template <class Body>  // body(place, number in the tile)
  void for_cells(const Body& body) const {
    std::size_t k = 0;
    for (std::int64_t r = 0; r < tile_.rows; ++r) {
      std::size_t i = place(0, r);
      for (std::int64_t c = 0; c < tile_.cols; ++c) body(i++, k++);
    }
  }

  // Every cell before the one it runs to: pass(cell, to), where `to` may lie around the tile.
  template <class Pass>
  void run_down(const Pass& pass) const {
    constexpr std::uint8_t kPassed = 0xFF;
    std::vector<std::uint8_t> above(size(), 0);
    for_cells([&](std::size_t i, std::size_t) {
      if (runs_on(code(i))) ++above[to(i)];
    });
    for_cells([&](std::size_t i, std::size_t) {
      for (std::size_t at = i; above[at] == 0;) {
        above[at] = kPassed;
        if (!runs_on(code(at))) return;
        const std::size_t next = to(at);
        pass(at, next);
        if (is_around(next)) return;
        --above[next];
        at = next;
      }
    });
  }

  // Marks what may miss water: cells beside voids that do not leave into them.
  void mark_cut_off() {
    for (std::size_t i = 0; i < size(); ++i) {
      if ((code_[i] & (kCodeBits | kLevelBit)) != kVoidCell) continue;
      for (int k = 1; k <= 8; ++k) {
        // Beyond the end of a row comes the next one's first, which lies around the tile.
        const auto n = static_cast<std::size_t>(static_cast<std::int64_t>(i) + step_[static_cast<std::size_t>(k)]);
        if (n < size() && !is_around(n) && code(n) != kVoidCell && code(n) != kLeaves) code_[n] |= kCutOffBit;
      }
    }
  }

  // Cells of the tile that a cell around it runs to, by number in the grid.
  std::vector<std::size_t> entries() const {
    std::vector<std::size_t> out;
    for (std::int64_t r = 0; r < tile_.rows; ++r)
      for (std::int64_t c = 0; c < tile_.cols;
           c += (r == 0 || r + 1 == tile_.rows || tile_.cols == 1) ? 1 : tile_.cols - 1)
        if (entered(place(c, r))) out.push_back(place(c, r));
    return out;
  }

 private:
  bool entered(std::size_t i) const {
    for (std::size_t k = 1; k <= 8; ++k) {
      const auto n = static_cast<std::size_t>(static_cast<std::int64_t>(i) + step_[k]);
      if (is_around(n) && code(n) == (k + 3) % 8 + 1) return true;
    }
    return false;
  }

  const FlowPlanes& planes_;
  Window tile_;
  std::int64_t wide_;
  std::vector<std::uint8_t> code_;
  std::array<std::int64_t, 16> step_{};
};

// What is known of the cells at which ways enter tiles, tile by tile, by number in the grid. T has a `cell`.
template <class T>
class Entries {
 public:
  explicit Entries(const FlowPlanes& planes) : planes_(planes), of_tile_(planes.tiling.count()) {}
  std::vector<T>& of(std::size_t tile) { return of_tile_[tile]; }
  const std::vector<T>& of(std::size_t tile) const { return of_tile_[tile]; }
  std::size_t tile_of(std::int64_t cell) const {
    return planes_.tiling.tile_of(cell % planes_.frame.cols(), cell / planes_.frame.cols());
  }
  T& at(std::int64_t cell) { return const_cast<T&>(std::as_const(*this).at(cell)); }
  const T& at(std::int64_t cell) const {
    const std::vector<T>& in = of_tile_[tile_of(cell)];
    return *std::lower_bound(in.begin(), in.end(), cell, [](const T& e, std::int64_t n) { return e.cell < n; });
  }
  template <class Body>
  void for_each(const Body& body) {
    for (std::vector<T>& in : of_tile_)
      for (T& e : in) body(e);
  }

 private:
  const FlowPlanes& planes_;
  std::vector<std::vector<T>> of_tile_;
};

// What comes down to a cell.
struct Load {
  std::int64_t cells = 0, area = 0;
  void add(const Load& o) {
    cells += o.cells;
    area += o.area;
  }
};

// Water that enters a tile at a cell, and where the way from there leaves the tile again (-1: it does not).
struct Entry {
  std::int64_t cell = 0;
  Load load;
  std::int64_t onward = -1;
  std::int32_t waiting = 0;
  bool cut_off = false;
  void add(const Load& more, bool cut) {
    load.add(more);
    cut_off = cut_off || cut;
  }
};

class Sums {
 public:
  Sums(FlowPlanes& planes, const RunOptions& run)
      : planes_(planes), run_(run), areas_(planes.frame), entries_(planes), early_(planes.tiling.count()) {}

  void find(FlowReport& report) {
    choose_step();
    first_look();
    pass_on();
    write(report);
  }

 private:
  struct Sent {
    std::int64_t to;
    Load load;
    bool cut_off;
  };

  struct Looked {
    std::vector<Sent> sent;
    std::vector<Entry> entries;
    template <class Fields>
    void fields(Fields& f) {
      f(sent, entries);
    }
  };

  struct Written {
    std::int64_t cells = 0, leaving = 0, ending = 0, cut_off = 0, area = 0, gone = 0;
  };

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

  // What each cell has by itself; nothing around the tile.
  std::vector<Load> own(TileCodes& codes) const {
    codes.mark_cut_off();
    std::vector<Load> loads(codes.size());
    const std::vector<std::int64_t> area = whole_areas(areas_, codes.tile(), planes_.area_step);
    codes.for_cells([&](std::size_t i, std::size_t k) {
      if (codes.code(i) != kVoidCell) loads[i] = {1, area[k]};
    });
    return loads;
  }

  // What comes to cells around the tile is what it sends there.
  static void run_down(TileCodes& codes, std::vector<Load>& loads) {
    codes.run_down([&](std::size_t from, std::size_t to) {
      loads[to].add(loads[from]);
      codes.pass_bit(from, to, kCutOffBit);
    });
  }

  // Where the ways from the entries lead: the cell around the tile, -1 for none.
  static std::vector<std::int64_t> ways_from(const std::vector<std::size_t>& entries, const TileCodes& codes) {
    constexpr std::int64_t kUnknown = -2;
    std::vector<std::int64_t> way(codes.size(), kUnknown), out;
    for (const std::size_t e : entries) {
      std::size_t at = e;
      while (way[at] == kUnknown && !codes.is_around(at) && runs_on(codes.code(at))) at = codes.to(at);
      const std::int64_t found = way[at] != kUnknown ? way[at] : codes.is_around(at) ? codes.number(at) : -1;
      for (std::size_t i = e; i != at; i = codes.to(i)) way[i] = found;
      way[at] = found;
      out.push_back(found);
    }
    return out;
  }

  // What each tile sends on by itself, and where ways through it lead.
  void first_look() {
    share_parts<Looked>(
        planes_.tiling.count(), run_,
        [&](std::size_t t) {
          TileCodes codes(planes_, *planes_.settled, planes_.tiling.window(t));
          std::vector<Load> loads = own(codes);
          run_down(codes, loads);
          Looked out;
          for (std::size_t i = 0; i < codes.size(); ++i)
            if (codes.is_around(i) && loads[i].cells > 0)
              out.sent.push_back({codes.number(i), loads[i], codes.has(i, kCutOffBit)});
          const std::vector<std::size_t> entries = codes.entries();
          const std::vector<std::int64_t> ways = ways_from(entries, codes);
          out.entries.reserve(entries.size());
          for (std::size_t k = 0; k < entries.size(); ++k)
            out.entries.push_back({.cell = codes.number(entries[k]), .load = {}, .onward = ways[k]});
          return out;
        },
        [&](std::size_t t, Looked& r) {
          entries_.of(t) = std::move(r.entries);
          for (const Sent& s : early_[t]) entries_.at(s.to).add(s.load, s.cut_off);
          std::vector<Sent>().swap(early_[t]);
          for (const Sent& s : r.sent) {
            if (const std::size_t to = entries_.tile_of(s.to); to > t)
              early_[to].push_back(s);
            else
              entries_.at(s.to).add(s.load, s.cut_off);
          }
        });
  }

  void pass_on() {
    entries_.for_each([&](const Entry& e) {
      if (e.onward >= 0) ++entries_.at(e.onward).waiting;
    });
    std::vector<Entry*> ready;
    entries_.for_each([&](Entry& e) {
      if (e.waiting == 0) ready.push_back(&e);
    });
    while (!ready.empty()) {
      const Entry& e = *ready.back();
      ready.pop_back();
      if (e.onward < 0) continue;
      Entry& to = entries_.at(e.onward);
      to.add(e.load, e.cut_off);
      if (--to.waiting == 0) ready.push_back(&to);
    }
  }

  void write(FlowReport& report) {
    std::int64_t area = 0, leaving = 0;
    share_written<Written>(
        planes_.tiling.count(), run_, planes_.folder,
        [&](std::size_t t) {
          const Window tile = planes_.tiling.window(t);
          TileCodes codes(planes_, *planes_.settled, tile);
          std::vector<Load> loads = own(codes);
          Written out;
          for (const Load& l : loads) out.area += l.area;
          for (const Entry& e : entries_.of(t)) {
            const std::size_t i = codes.place_of(e.cell);
            loads[i].add(e.load);
            if (e.cut_off) codes.set(i, kCutOffBit);
          }
          run_down(codes, loads);
          const auto n = static_cast<std::size_t>(tile.cells());
          std::vector<float> cells(n), areas(n);
          std::vector<std::uint8_t> whole(n);
          codes.for_cells([&](std::size_t i, std::size_t k) {
            cells[k] = static_cast<float>(loads[i].cells);
            areas[k] = static_cast<float>(static_cast<double>(loads[i].area) * planes_.area_step);
            whole[k] = codes.whole(i);
            const std::uint8_t code = codes.code(i);
            out.cells += code != kVoidCell;
            out.leaving += code == kLeaves;
            out.ending += code == kEnds;
            out.cut_off += codes.has(i, kCutOffBit);
            if (code == kLeaves || code == kEnds) out.gone += loads[i].area;
          });
          planes_.cells.write(tile, cells.data());
          planes_.area.write(tile, areas.data());
          planes_.direction->write(tile, whole.data());
          return out;
        },
        [&](std::size_t, const Written& r) {
          report.cells += r.cells;
          report.leaving += r.leaving;
          report.ending += r.ending;
          report.cut_off += r.cut_off;
          area += r.area;
          leaving += r.gone;
        });
    report.area = static_cast<double>(area) * planes_.area_step;
    report.leaving_area = static_cast<double>(leaving) * planes_.area_step;
  }

  FlowPlanes& planes_;
  const RunOptions& run_;
  CellAreas areas_;
  Entries<Entry> entries_;
  std::vector<std::vector<Sent>> early_;  // sent to tiles whose entries are not known yet
};

// Where the ways of a tile's cells end within it: at a station, at a cell that leaves the tile, or nowhere.
class TileLegs {
 public:
  static constexpr std::int32_t kNowhere = -1;

  // `station`: by number in the tile.
  TileLegs(const FlowPlanes& planes, const TileCodes& codes, const std::vector<std::uint8_t>& station)
      : end_(codes.size(), kUnknown), steps_(codes.size(), 0), station_(codes.size(), 0) {
    codes.for_cells([&](std::size_t i, std::size_t k) { station_[i] = station[k]; });
    const StepLengths lengths(planes.frame, codes.tile());
    std::int64_t row = 0, left = codes.tile().cols;
    codes.for_cells([&](std::size_t i, std::size_t) {
      if (end_[i] == kUnknown) follow(codes, lengths, i, row);
      if (--left == 0) {
        ++row;
        left = codes.tile().cols;
      }
    });
  }
  std::int32_t end(std::size_t i) const { return end_[i]; }
  std::int64_t steps(std::size_t i) const { return steps_[i]; }
  bool is_station(std::int32_t i) const { return station_[static_cast<std::size_t>(i)] != 0; }

 private:
  static constexpr std::int32_t kUnknown = -2;

  // Down to what is known, and back up with it.
  void follow(const TileCodes& codes, const StepLengths& lengths, std::size_t from, std::int64_t row) {
    way_.clear();
    std::size_t at = from;
    for (;; at = codes.to(at)) {
      if (end_[at] != kUnknown) break;
      const std::uint8_t code = codes.code(at);
      if (station_[at] || !runs_on(code)) {
        end_[at] = station_[at] ? static_cast<std::int32_t>(at) : kNowhere;
        break;
      }
      if (codes.is_around(codes.to(at))) {
        end_[at] = static_cast<std::int32_t>(at);
        steps_[at] = lengths.at(row, code);
        break;
      }
      way_.push_back(at);
      row += kRowStep[code - 1];
    }
    for (auto it = way_.rbegin(); it != way_.rend(); ++it) {
      const std::uint8_t code = codes.code(*it);
      row -= kRowStep[code - 1];
      end_[*it] = end_[at];
      steps_[*it] = steps_[at] + lengths.at(row, code);
      at = *it;
    }
  }

  std::vector<std::int32_t> end_;
  std::vector<std::int64_t> steps_;
  std::vector<std::uint8_t> station_;
  std::vector<std::size_t> way_;
};

// A way from where it enters a tile to a station, or to the cell at which it enters the next; to -1 where it leaves.
struct Leg {
  std::int64_t cell = 0, to = -1;
  std::int64_t steps : 63 = 0;
  bool arrives : 1 = true;  // or goes on from there
};

Leg leg_at(const TileLegs& legs, const TileCodes& codes, std::size_t i) {
  Leg out{.cell = codes.number(i), .steps = legs.steps(i)};
  const std::int32_t end = legs.end(i);
  if (end == TileLegs::kNowhere) return out;
  out.arrives = legs.is_station(end);
  out.to = codes.number(out.arrives ? static_cast<std::size_t>(end) : codes.to(static_cast<std::size_t>(end)));
  return out;
}

// Each way is followed once: what lies behind a cell is known when it is asked again.
void follow_on(Entries<Leg>& entries) {
  std::vector<Leg*> way;
  entries.for_each([&](Leg& from) {
    way.clear();
    for (Leg* k = &from; !k->arrives; k = &entries.at(k->to)) way.push_back(k);
    for (auto k = way.rbegin(); k != way.rend(); ++k) {
      const Leg& behind = entries.at((*k)->to);
      (*k)->to = behind.to;
      (*k)->steps += behind.steps;
      (*k)->arrives = true;
    }
  });
}

// Of all cells of a tile, once the entries are known to the end.
std::vector<Arrival> arrivals_of(const TileCodes& codes, const TileLegs& legs, const Entries<Leg>& entries) {
  std::vector<Arrival> out(static_cast<std::size_t>(codes.tile().cells()));
  std::int32_t end = TileLegs::kNowhere;  // neighbours mostly arrive at the same
  Arrival there;
  codes.for_cells([&](std::size_t i, std::size_t k) {
    if (legs.end(i) != end) {
      end = legs.end(i);
      there = {};
      if (end != TileLegs::kNowhere) {
        const Leg last = leg_at(legs, codes, static_cast<std::size_t>(end));
        there.station = last.to;
        if (!last.arrives) there = {entries.at(last.to).to, entries.at(last.to).steps};
      }
    }
    out[k] = {there.station, there.steps + legs.steps(i)};
  });
  return out;
}

}  // namespace

std::vector<std::int64_t> whole_areas(const CellAreas& areas, const Window& w, double step, const Block* weights) {
  std::vector<std::int64_t> out(static_cast<std::size_t>(w.cells()));
  std::vector<double> area(static_cast<std::size_t>(w.cols));
  const double steps = 1 / step;  // a power of two: exact
  for (std::int64_t r = 0; r < w.rows; ++r) {
    areas.row(w.row + r, w.col, w.col + w.cols).read(w.col, area);
    std::int64_t* to = out.data() + r * w.cols;
    for (std::int64_t c = 0; c < w.cols; ++c) {
      const double a =
          area[static_cast<std::size_t>(c)] * steps * (weights ? static_cast<double>(weights->at(c, r)) : 1);
      to[c] = std::isfinite(a) ? static_cast<std::int64_t>(std::floor(a + 0.5)) : 0;
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
  const auto legs_in = [&](const TileCodes& codes) {
    std::vector<std::uint8_t> station(static_cast<std::size_t>(codes.tile().cells()), 0);
    is_station(codes.tile(), station);
    return TileLegs(planes, codes, station);
  };
  Entries<Leg> entries(planes);
  using Legs = std::vector<Leg>;
  share_parts<Legs>(
      planes.tiling.count(), run,
      [&](std::size_t t) {
        const TileCodes codes(planes, *planes.direction, planes.tiling.window(t));
        const TileLegs legs = legs_in(codes);
        Legs out;
        const std::vector<std::size_t> places = codes.entries();
        out.reserve(places.size());
        for (const std::size_t e : places) out.push_back(leg_at(legs, codes, e));
        return out;
      },
      [&](std::size_t t, Legs& legs) { entries.of(t) = std::move(legs); });
  follow_on(entries);
  parallel_ordered(
      planes.tiling.count(), static_cast<std::size_t>(2 * thread_count(run)), run,
      [&](std::size_t t) -> std::shared_ptr<void> {
        const TileCodes codes(planes, *planes.direction, planes.tiling.window(t));
        const TileLegs legs = legs_in(codes);
        return std::make_shared<std::vector<Arrival>>(arrivals_of(codes, legs, entries));
      },
      [&](std::size_t t, const std::shared_ptr<void>& made) {
        take(planes.tiling.window(t), *static_cast<std::vector<Arrival>*>(made.get()));
      });
}

}  // namespace katoptra
