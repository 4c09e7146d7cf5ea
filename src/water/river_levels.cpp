#include "river_levels.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <numeric>
#include <optional>
#include <queue>
#include <set>

#include "base/robust.hpp"
#include "water_level.hpp"

namespace katoptra {
namespace {

constexpr std::int32_t kNoCell = -1;
constexpr double kInfinite = std::numeric_limits<double>::infinity();
constexpr float kNoLevel = std::numeric_limits<float>::quiet_NaN();

// West, east, north, south neighbours of each cell by their numbers.
using CellLinks = std::vector<std::array<std::int32_t, 4>>;

CellLinks links_of(const CellSet& set) {
  CellLinks links(set.count(), {kNoCell, kNoCell, kNoCell, kNoCell});
  std::size_t above = 0;  // runs of the row above that may touch
  for (std::size_t i = 0; i < set.runs().size(); ++i) {
    const CellRun& run = set.runs()[i];
    const std::size_t n = set.number_of_run(i);
    for (std::int32_t c = run.first; c + 1 < run.last; ++c) {
      const std::size_t k = n + static_cast<std::size_t>(c - run.first);
      links[k][1] = static_cast<std::int32_t>(k + 1);
      links[k + 1][0] = static_cast<std::int32_t>(k);
    }
    while (above < i && (set.runs()[above].row < run.row - 1 ||
                         (set.runs()[above].row == run.row - 1 && set.runs()[above].last <= run.first)))
      ++above;
    for (std::size_t a = above; a < i && set.runs()[a].row == run.row - 1 && set.runs()[a].first < run.last; ++a) {
      const CellRun& over = set.runs()[a];
      for (std::int32_t c = std::max(run.first, over.first); c < std::min(run.last, over.last); ++c) {
        const std::size_t k = n + static_cast<std::size_t>(c - run.first),
                          up = set.number_of_run(a) + static_cast<std::size_t>(c - over.first);
        links[k][2] = static_cast<std::int32_t>(up);
        links[up][3] = static_cast<std::int32_t>(k);
      }
    }
  }
  return links;
}

// Distances within a set of cells from one of them, by fast marching: fronts that move at an even pace.
class March {
 public:
  March(const CellLinks& links, CellSize cell) : links_(links), cell_(cell) {}

  // Distances of the cells that can be reached, which are told in the order of it. Others keep what they have.
  std::vector<std::int32_t> from(std::int32_t start, std::vector<double>& d) {
    std::vector<std::int32_t> order;
    using Next = std::pair<double, std::int32_t>;
    std::priority_queue<Next, std::vector<Next>, std::greater<>> queue;
    state_.resize(links_.size(), 0);
    queued_ += 2;
    d[static_cast<std::size_t>(start)] = 0;
    queue.push({0, start});
    while (!queue.empty()) {
      const auto [at, i] = queue.top();
      queue.pop();
      if (is_done(i)) continue;
      state_[static_cast<std::size_t>(i)] = queued_ + 1;
      order.push_back(i);
      for (const std::int32_t k : links_[static_cast<std::size_t>(i)]) {
        if (k == kNoCell || is_done(k)) continue;
        double& old = d[static_cast<std::size_t>(k)];
        if (std::uint32_t& state = state_[static_cast<std::size_t>(k)]; state != queued_) {
          state = queued_;
          old = kInfinite;
        }
        if (const double t = arrival(k, d); t < old) {
          old = t;
          queue.push({t, k});
        }
      }
    }
    return order;
  }

 private:
  bool is_done(std::int32_t k) const { return state_[static_cast<std::size_t>(k)] == queued_ + 1; }
  double reached(std::int32_t k, const std::vector<double>& d) const {
    return k != kNoCell && is_done(k) ? d[static_cast<std::size_t>(k)] : kInfinite;
  }
  double arrival(std::int32_t i, const std::vector<double>& d) const {
    const auto& n = links_[static_cast<std::size_t>(i)];
    const double a = std::min(reached(n[0], d), reached(n[1], d)), b = std::min(reached(n[2], d), reached(n[3], d));
    const double x = cell_.x, y = cell_.y, alone = std::min(a + x, b + y);
    if (a == kInfinite || b == kInfinite) return alone;
    // ((t - a) / x)^2 + ((t - b) / y)^2 = 1
    const double u = 1 / (x * x), v = 1 / (y * y), s = u + v, m = (a * u + b * v) / s;
    const double rest = m * m - (a * a * u + b * b * v - 1) / s;
    if (rest < 0) return alone;
    const double t = m + std::sqrt(rest);
    return t >= std::max(a, b) ? std::min(t, alone) : alone;
  }

  const CellLinks& links_;
  CellSize cell_;
  // Of this round: queued_ is waiting, one more is done; whatever is less is of an earlier one.
  std::vector<std::uint32_t> state_;
  std::uint32_t queued_ = 0;
};

// A part of a river that hangs together: its cells in the order of their distance from one end.
struct RiverPart {
  std::vector<std::int32_t> cells;
  double length = 0;
};

// From the cell that lies farthest from the farthest from `start`.
RiverPart reach_from(March& march, std::int32_t start, std::vector<double>& d) {
  const std::int32_t one = march.from(start, d).back();
  const std::int32_t other = march.from(one, d).back();
  RiverPart r{march.from(other, d), 0};
  r.length = d[static_cast<std::size_t>(r.cells.back())];
  return r;
}

// Stretches of a reach: cells of about the same distance that hang together, from the mouth up.
class ReachStretches {
 public:
  ReachStretches(const RiverGround& ground, const CellLinks& links, const std::vector<double>& d,
                 const RiverPart& reach, double step)
      : ground_(ground), links_(links), d_(d), step_(step), node_(ground.cells.count(), kNoCell) {
    for (const std::int32_t i : reach.cells)
      if (node_[static_cast<std::size_t>(i)] == kNoCell) gather(i);
    join();
  }

  std::size_t count() const { return bins_.size(); }
  std::int32_t of(std::int32_t cell) const { return node_[static_cast<std::size_t>(cell)]; }
  std::int64_t bin(std::size_t node) const { return bins_[node]; }
  const std::vector<std::vector<std::int32_t>>& cells() const { return cells_; }
  // Below each stretch the one that it shares most sides with; roots are their own.
  const std::vector<std::size_t>& parent() const { return parent_; }
  // Where stretches meet that follow each other: those that share a side, and by them others, meet at one level.
  // `below`, `above`: of each stretch the number of the meeting at its lower and its upper end; count() for none.
  std::size_t meetings() const { return meetings_; }
  std::size_t below(std::size_t node) const { return below_[node]; }
  std::size_t above(std::size_t node) const { return above_[node]; }
  double from(std::size_t node) const { return static_cast<double>(bins_[node]) * step_; }

 private:
  std::int64_t bin_of(std::int32_t i) const {
    return static_cast<std::int64_t>(std::floor(d_[static_cast<std::size_t>(i)] / step_));
  }
  void gather(std::int32_t start) {
    const auto n = static_cast<std::int32_t>(bins_.size());
    const std::int64_t bin = bin_of(start);
    bins_.push_back(bin);
    cells_.push_back({start});
    node_[static_cast<std::size_t>(start)] = n;
    for (std::size_t at = 0; at < cells_.back().size(); ++at)
      for (const std::int32_t k : links_[static_cast<std::size_t>(cells_.back()[at])])
        if (k != kNoCell && node_[static_cast<std::size_t>(k)] == kNoCell && bin_of(k) == bin) {
          node_[static_cast<std::size_t>(k)] = n;
          cells_.back().push_back(k);
        }
  }
  void join() {
    const std::size_t n = count();
    std::vector<std::pair<std::size_t, std::size_t>> sides;  // upper, lower
    for (std::size_t up = 0; up < n; ++up)
      for (const std::int32_t i : cells_[up])
        for (const std::int32_t k : links_[static_cast<std::size_t>(i)])
          if (k != kNoCell && bin_of(k) < bins_[up]) sides.push_back({up, static_cast<std::size_t>(of(k))});
    std::sort(sides.begin(), sides.end());
    parent_.resize(n);
    std::iota(parent_.begin(), parent_.end(), std::size_t{0});
    // Ends of stretches: 2 n are the lower, 2 n + 1 the upper; those that touch are one meeting.
    std::vector<std::size_t> root(2 * n);
    std::iota(root.begin(), root.end(), std::size_t{0});
    const auto find = [&](std::size_t a) {
      while (root[a] != a) a = root[a] = root[root[a]];
      return a;
    };
    std::size_t most = 0;
    for (std::size_t i = 0; i < sides.size();) {
      std::size_t j = i;
      while (j < sides.size() && sides[j] == sides[i]) ++j;
      const auto [up, low] = sides[i];
      if (i == 0 || sides[i - 1].first != up) most = 0;
      if (j - i > most) parent_[up] = low;
      most = std::max(most, j - i);
      const std::size_t a = find(2 * up), b = find(2 * low + 1);
      root[std::max(a, b)] = std::min(a, b);
      i = j;
    }
    std::vector<std::size_t> number(2 * n, 2 * n);
    const auto numbered = [&](std::size_t end) {
      std::size_t& at = number[find(end)];
      if (at == 2 * n) at = meetings_++;
      return at;
    };
    for (std::size_t i = 0; i < n; ++i) {
      below_.push_back(numbered(2 * i));
      above_.push_back(numbered(2 * i + 1));
    }
  }

  const RiverGround& ground_;
  const CellLinks& links_;
  const std::vector<double>& d_;
  double step_;
  std::vector<std::int32_t> node_;
  std::vector<std::int64_t> bins_;
  std::vector<std::vector<std::int32_t>> cells_;
  std::vector<std::size_t> parent_, below_, above_;
  std::size_t meetings_ = 0;
};

struct Observed {
  double height = std::nan(""), weight = 0, spread = 0;
};

// What the cells of a stretch tell of its level; where few have heights, a low one of its bank.
Observed observed(const RiverGround& g, const std::vector<std::int32_t>& cells) {
  constexpr double kEnough = 0.25, kOfBank = 0.1;
  std::vector<double> z;
  for (const std::int32_t i : cells)
    if (const float h = g.heights[static_cast<std::size_t>(i)]; !std::isnan(h)) z.push_back(static_cast<double>(h));
  if (static_cast<double>(z.size()) >= kEnough * static_cast<double>(cells.size()))
    if (const auto w = water_level(std::move(z))) return {w->level, static_cast<double>(w->cells), w->spread};
  return {std::nan(""), kOfBank, 0};
}

// Heights of the rim by the cells of the river that they lie beside.
std::vector<std::pair<std::int32_t, double>> bank_of(const RiverGround& g) {
  std::vector<std::pair<std::int32_t, double>> out;
  for (std::size_t i = 0; i < g.rim.runs().size(); ++i) {
    const CellRun& run = g.rim.runs()[i];
    for (std::int32_t c = run.first; c < run.last; ++c) {
      const float z = g.rim_heights[g.rim.number_of_run(i) + static_cast<std::size_t>(c - run.first)];
      if (std::isnan(z)) continue;
      for (const auto& [x, y] : {std::pair{-1, 0}, {1, 0}, {0, -1}, {0, 1}})
        if (const std::int64_t k = g.cells.number(c + x, run.row + y); k >= 0)
          out.push_back({static_cast<std::int32_t>(k), static_cast<double>(z)});
    }
  }
  return out;
}

// Stretches of which nothing is known lie between those above and below.
void between_known(const ReachStretches& s, std::vector<double>& level) {
  const std::size_t n = s.count();
  struct Above {
    double level = std::nan("");
    std::int64_t bin = 0;
  };
  std::vector<Above> above(n);
  for (std::size_t i = n; i-- > 0;) {
    const Above mine = std::isnan(level[i]) ? above[i] : Above{level[i], s.bin(i)};
    Above& of_parent = above[s.parent()[i]];
    if (s.parent()[i] != i && !std::isnan(mine.level) && !(of_parent.level <= mine.level)) of_parent = mine;
  }
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isnan(level[i])) continue;
    const std::size_t p = s.parent()[i];
    if (p == i || std::isnan(level[p]))
      level[i] = above[i].level;
    else if (std::isnan(above[i].level))
      level[i] = level[p];
    else
      level[i] = level[p] + (above[i].level - level[p]) / static_cast<double>(above[i].bin - s.bin(p)) *
                                static_cast<double>(s.bin(i) - s.bin(p));
  }
}

// Levels at which stretches meet, between those that lie below and those above.
class Falls {
 public:
  Falls(const ReachStretches& s, std::vector<double>& level) : s_(s), level_(level) {
    const std::size_t m = s.meetings();
    std::vector<double> low(m, -kInfinite), high(m, kInfinite);
    // A stretch lies no lower than any that it meets below, also by another: numbers go up from the mouth.
    for (std::size_t i = 0; i < s.count(); ++i) {
      level_[i] = std::max(level_[i], low[s.below(i)]);
      low[s.above(i)] = std::max(low[s.above(i)], level_[i]);
    }
    for (std::size_t i = 0; i < s.count(); ++i) high[s.below(i)] = std::min(high[s.below(i)], level_[i]);
    at_.resize(m);
    for (std::size_t i = 0; i < m; ++i)
      at_[i] = low[i] == -kInfinite || high[i] == kInfinite ? std::nan("") : (low[i] + high[i]) / 2;
    // Ends that nothing meets go on as the stretch does.
    for (std::size_t i = 0; i < s.count(); ++i) {
      double &down = at_[s.below(i)], &up = at_[s.above(i)];
      if (std::isnan(down)) down = std::isnan(up) ? level_[i] : 2 * level_[i] - up;
      if (std::isnan(up)) up = 2 * level_[i] - down;
    }
  }
  double at(std::size_t stretch, double share) const {
    const double down = at_[s_.below(stretch)], up = at_[s_.above(stretch)];
    return down + (up - down) * std::clamp(share, 0.0, 1.0);
  }

 private:
  const ReachStretches& s_;
  std::vector<double>& level_;
  std::vector<double> at_;
};

double middle_height(const RiverGround& g, const std::vector<std::int32_t>& cells, std::size_t from, std::size_t end) {
  std::vector<double> z;
  for (std::size_t i = from; i < end; ++i)
    if (const float h = g.heights[static_cast<std::size_t>(cells[i])]; !std::isnan(h))
      z.push_back(static_cast<double>(h));
  return median_of(std::move(z));
}

// Solves one part of a river after the other into the same levels.
class River {
 public:
  River(const RiverGround& g, const std::vector<RiverContact>& contacts)
      : g_(g),
        contacts_(contacts),
        links_(links_of(g.cells)),
        march_(links_, g.cell),
        d_(g.cells.count(), kInfinite),
        part_of_(g.cells.count(), 0) {
    out_.level.assign(g.cells.count(), kNoLevel);
    bank_ = bank_of(g);
    std::sort(bank_.begin(), bank_.end());
  }

  RiverLevels solve() {
    for (std::size_t i = 0; i < d_.size(); ++i)
      if (d_[i] == kInfinite) {
        ++part_;
        solve_part(static_cast<std::int32_t>(i));
      }
    out_.spread = median_of(spreads_);
    out_.cells_of_stretch = median_of(sizes_);
    out_.rest = rests_.empty() ? 0 : robust_deviation(rests_, 0);
    out_.lowest = kInfinite;
    out_.highest = -kInfinite;
    for (const float z : out_.level) {
      if (std::isnan(z)) continue;
      out_.lowest = std::min(out_.lowest, static_cast<double>(z));
      out_.highest = std::max(out_.highest, static_cast<double>(z));
    }
    return std::move(out_);
  }

 private:
  void solve_part(std::int32_t start) {
    RiverPart reach = from_mouth(start);
    const double width = static_cast<double>(reach.cells.size()) * g_.cell.x * g_.cell.y /
                         std::max(reach.length, std::max(g_.cell.x, g_.cell.y));
    if (reach.length > out_.length) {
      out_.length = reach.length;
      out_.width = width;
    }
    constexpr double kWidths = 2, kCells = 4;
    const double step = std::max(kWidths * width, kCells * std::max(g_.cell.x, g_.cell.y));
    const ReachStretches s(g_, links_, d_, reach, step);
    std::vector<double> level = levels_of(s);
    if (std::isnan(level[0])) return;
    const Falls falls(s, level);
    const auto [least, most] = bounds(reach);
    for (const std::int32_t i : reach.cells) {
      const auto node = static_cast<std::size_t>(s.of(i));
      const double z = falls.at(node, (d_[static_cast<std::size_t>(i)] - s.from(node)) / step);
      out_.level[static_cast<std::size_t>(i)] = static_cast<float>(std::min(std::max(z, least), std::max(least, most)));
    }
  }
  // The end where the water is lower, or where it meets lower water that stands.
  RiverPart from_mouth(std::int32_t start) {
    RiverPart reach = reach_from(march_, start, d_);
    for (const std::int32_t i : reach.cells) part_of_[static_cast<std::size_t>(i)] = part_;
    const std::size_t n = reach.cells.size(), end = std::max<std::size_t>(1, n / 20);
    double near = middle_height(g_, reach.cells, 0, end), far = middle_height(g_, reach.cells, n - end, n);
    for (const RiverContact& c : contacts_) {
      if (part_of_[c.cell] != part_) continue;
      const double at = d_[c.cell];
      if (at < reach.length / 20) near = std::isnan(near) ? c.level : std::min(near, c.level);
      if (at > reach.length * 19 / 20) far = std::isnan(far) ? c.level : std::min(far, c.level);
    }
    if (std::isnan(near) && std::isnan(far)) {
      near = low_bank(reach, 0, end);
      far = low_bank(reach, n - end, n);
    }
    if (!(far < near)) return reach;
    RiverPart turned{march_.from(reach.cells.back(), d_), 0};
    turned.length = d_[static_cast<std::size_t>(turned.cells.back())];
    return turned;
  }
  double low_bank(const RiverPart& reach, std::size_t from, std::size_t end) const {
    std::vector<double> z;
    for (std::size_t i = from; i < end; ++i) add_bank(reach.cells[i], z);
    std::sort(z.begin(), z.end());
    return quantile_of(z, kLowOfBank);
  }
  void add_bank(std::int32_t cell, std::vector<double>& z) const {
    for (auto it = std::lower_bound(bank_.begin(), bank_.end(), std::pair{cell, -kInfinite});
         it != bank_.end() && it->first == cell; ++it)
      z.push_back(it->second);
  }
  std::vector<double> levels_of(const ReachStretches& s) {
    const std::size_t n = s.count();
    std::vector<double> height(n), weight(n);
    for (std::size_t i = 0; i < n; ++i) {
      const Observed o = observed(g_, s.cells()[i]);
      height[i] = o.height;
      weight[i] = o.weight;
      if (std::isnan(height[i])) continue;
      spreads_.push_back(o.spread);
      sizes_.push_back(o.weight);
    }
    ask_bank(s, height);
    std::vector<double> level = rising_along(s.parent(), height, weight);
    for (std::size_t i = 0; i < n; ++i)
      if (weight[i] >= 1) rests_.push_back(height[i] - level[i]);
    between_known(s, level);
    return level;
  }
  // Stretches without heights that do not lie between others that have some stand as high as their bank lets them.
  void ask_bank(const ReachStretches& s, std::vector<double>& height) const {
    const std::size_t n = s.count();
    std::vector<std::uint8_t> below(n), above(n);
    for (std::size_t i = 0; i < n; ++i)
      below[i] = s.parent()[i] != i && (below[s.parent()[i]] || !std::isnan(height[s.parent()[i]]));
    for (std::size_t i = n; i-- > 0;)
      if (above[i] || !std::isnan(height[i])) above[s.parent()[i]] |= s.parent()[i] != i;
    for (std::size_t i = 0; i < n; ++i) {
      if (!std::isnan(height[i]) || (below[i] && above[i])) continue;
      std::vector<double> z;
      for (const std::int32_t c : s.cells()[i]) add_bank(c, z);
      std::sort(z.begin(), z.end());
      height[i] = quantile_of(z, kLowOfBank);
    }
  }
  // Standing water below holds it up, standing water above is no lower.
  std::pair<double, double> bounds(const RiverPart& reach) const {
    double least = -kInfinite, most = kInfinite;
    for (const RiverContact& c : contacts_) {
      if (part_of_[c.cell] != part_) continue;
      if (d_[c.cell] < reach.length / 2)
        least = std::max(least, c.level);
      else
        most = std::min(most, c.level);
    }
    return {least, most};
  }

  static constexpr double kLowOfBank = 0.1;
  const RiverGround& g_;
  const std::vector<RiverContact>& contacts_;
  CellLinks links_;
  March march_;
  std::vector<double> d_;
  std::vector<std::uint32_t> part_of_;
  std::uint32_t part_ = 0;
  std::vector<std::pair<std::int32_t, double>> bank_;
  std::vector<double> spreads_, sizes_, rests_;
  RiverLevels out_;
};

}  // namespace

std::vector<double> rising_along(const std::vector<std::size_t>& parent, const std::vector<double>& height,
                                 const std::vector<double>& weight) {
  const std::size_t n = parent.size();
  // A block of nodes that share a level; of the blocks above it, the lowest first.
  struct Pool {
    double sum = 0, weight = 0;
    std::set<std::pair<double, std::size_t>> above;
    double level() const { return sum / weight; }
  };
  std::vector<Pool> pools(n);
  std::vector<std::size_t> owner(n);
  std::iota(owner.begin(), owner.end(), std::size_t{0});
  for (std::size_t i = n; i-- > 0;) {
    Pool& p = pools[i];
    if (!std::isnan(height[i])) {
      p.sum += weight[i] * height[i];
      p.weight += weight[i];
    }
    // Blocks above join until all that are left are higher; a block without heights takes nothing in.
    while (p.weight > 0 && !p.above.empty() && p.above.begin()->first < p.level()) {
      const std::size_t k = p.above.begin()->second;
      p.above.erase(p.above.begin());
      p.sum += pools[k].sum;
      p.weight += pools[k].weight;
      if (pools[k].above.size() > p.above.size()) std::swap(p.above, pools[k].above);
      p.above.insert(pools[k].above.begin(), pools[k].above.end());
      pools[k].above.clear();
      owner[k] = i;
    }
    if (parent[i] == i) continue;
    if (p.weight > 0)
      pools[parent[i]].above.insert({p.level(), i});
    else
      pools[parent[i]].above.merge(p.above);
  }
  std::vector<double> level(n);
  for (std::size_t i = 0; i < n; ++i) {
    std::size_t at = i;
    while (owner[at] != at) at = owner[at] = owner[owner[at]];
    level[i] = pools[at].weight > 0 ? pools[at].level() : std::nan("");
  }
  return level;
}

Form form_of(const CellSet& cells, CellSize cell) {
  if (cells.empty()) return {};
  const CellLinks links = links_of(cells);
  March march(links, cell);
  std::vector<double> d(cells.count(), kInfinite);
  const RiverPart reach = reach_from(march, 0, d);
  const double area = static_cast<double>(cells.count()) * cell.x * cell.y;
  return {reach.length, area / std::max(reach.length, std::max(cell.x, cell.y))};
}

RiverLevels river_levels(const RiverGround& ground, const std::vector<RiverContact>& contacts) {
  return River(ground, contacts).solve();
}

}  // namespace katoptra
