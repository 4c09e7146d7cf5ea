#include "overlaps.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "katoptra/base/error.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/check/statistics.hpp"

#include "adjustment.hpp"
#include "base/robust.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kLeastSide = 4, kMostLooks = 8;  // times the patches that are wanted

}  // namespace

Spread spread_over(std::int64_t nx, std::int64_t ny, std::int64_t most) {
  const auto share = [&](double thin) {
    return Spread{std::max<std::int64_t>(1, std::llround(static_cast<double>(nx) / thin)),
                  std::max<std::int64_t>(1, std::llround(static_cast<double>(ny) / thin))};
  };
  double thin = std::max(1.0, std::sqrt(static_cast<double>(nx) * static_cast<double>(ny) / static_cast<double>(most)));
  while (share(thin).count() > most) thin *= 1.05;
  return share(thin);
}

std::vector<Window> spread_windows(const Frame& frame, std::int64_t side, std::int64_t most) {
  const std::int64_t nx = (frame.cols() + side - 1) / side, ny = (frame.rows() + side - 1) / side;
  const Spread spread = spread_over(nx, ny, most);
  std::vector<Window> windows;
  for (std::int64_t k = 0; k < spread.down; ++k)
    for (std::int64_t l = 0; l < spread.across; ++l)
      windows.push_back(
          Window{placed(l, spread.across, nx) * side, placed(k, spread.down, ny) * side, side, side}.intersected(
              frame.window()));
  return windows;
}

RobustMean robust_mean(std::vector<double>& values) {
  RobustMean m{upper_median_of(values), 0};
  std::vector<double> off(values.size());
  for (std::size_t i = 0; i < values.size(); ++i) off[i] = std::abs(values[i] - m.mean);
  m.spread = kNmadFactor * upper_median_of(off);
  // Where most of them are equal, as heights in whole decimetres can be, the others still say something.
  if (!(m.spread > 0))
    m.spread = std::sqrt(std::numbers::pi / 2) * std::accumulate(off.begin(), off.end(), 0.0) /
               static_cast<double>(off.size());
  const double reach = kBisquare * m.spread;
  if (!(reach > 0)) return m;
  for (int round = 0; round < 5; ++round) {
    double sum = 0, weight = 0;
    for (const double v : values) {
      const double t = (v - m.mean) / reach;
      if (std::abs(t) >= 1) continue;
      const double w = (1 - t * t) * (1 - t * t);
      sum += w * (v - m.mean);
      weight += w;
    }
    m.mean += sum / weight;
  }
  return m;
}

std::vector<std::pair<std::size_t, std::size_t>> pairs_that_overlap(
    const std::vector<Grid>& tiles, const std::function<bool(std::size_t, std::size_t)>& together) {
  const Frame& lead = tiles[0].frame();
  std::vector<Bounds> boxes;
  for (const Grid& t : tiles) {
    const Crs& crs = t.frame().crs();
    Bounds box = t.frame().bounds();
    if (!crs.same_place(lead.crs())) box = transformed(box, Transform(crs, lead.crs()));
    boxes.push_back(lead.told_here(box));
  }
  std::vector<std::size_t> order(tiles.size());
  for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
  std::sort(order.begin(), order.end(),
            [&](std::size_t a, std::size_t b) { return std::pair(boxes[a].west, a) < std::pair(boxes[b].west, b); });
  std::vector<std::pair<std::size_t, std::size_t>> pairs;
  for (std::size_t k = 0; k < order.size(); ++k)
    for (std::size_t l = k + 1; l < order.size() && boxes[order[l]].west < boxes[order[k]].east; ++l) {
      const auto [a, b] = std::minmax(order[k], order[l]);
      if (boxes[a].south < boxes[b].north && boxes[b].south < boxes[a].north && !together(a, b))
        pairs.emplace_back(a, b);
    }
  std::sort(pairs.begin(), pairs.end());
  return pairs;
}

OverlapSample sample_overlap(const std::vector<Grid>& tiles, std::pair<std::size_t, std::size_t> pair,
                             std::int64_t side, std::int64_t most) {
  OverlapSample s{pair.first, pair.second, {}, {}};
  std::vector<std::string> notes;
  std::pair<Grid, Grid> here;
  try {
    here = brought_together(tiles[pair.first], tiles[pair.second], notes);
  } catch (const Error& e) {
    // Their boxes met in another CRS only.
    if (e.code() == ErrorCode::BadArgument) return s;
    throw;
  }
  const Frame& f = here.first.frame();
  s.crs = f.crs();
  // Where little is shared patches are smaller, so that there are enough of them to tell change from error.
  const auto fair = static_cast<std::int64_t>(std::sqrt(static_cast<double>(f.cols() * f.rows() / most)));
  side = std::min({side, std::max<std::int64_t>(fair, kLeastSide), f.cols(), f.rows()});
  if (side < 2) return s;
  const double unit = metres_per(here.first.quantity().unit);
  const std::int64_t nx = (f.cols() + side - 1) / side, ny = (f.rows() + side - 1) / side;
  std::vector<double> d;
  // Where voids leave few of them, they are taken more densely, within reason.
  const std::int64_t densest = spread_over(nx, ny, kMostLooks * most).count();
  for (std::int64_t wanted = most;; wanted *= 2) {
    s.patches.clear();
    const std::vector<Window> windows = spread_windows(f, side, std::min(wanted, kMostLooks * most));
    for (const Window& w : windows) {
      const Block a = here.first.read(w), b = here.second.read(w);
      d.clear();
      for (std::int64_t i = 0; i < w.cells(); ++i)
        if (const double v = (static_cast<double>(a.row(0)[i]) - static_cast<double>(b.row(0)[i])) * unit;
            !std::isnan(v))
          d.push_back(v);
      if (4 * static_cast<std::int64_t>(d.size()) < side * side || d.size() < 4) continue;
      const RobustMean m = robust_mean(d);
      s.patches.push_back({f.centre(static_cast<double>(w.col) + static_cast<double>(w.cols - 1) / 2,
                                    static_cast<double>(w.row) + static_cast<double>(w.rows - 1) / 2),
                           m.mean, m.spread, static_cast<std::int64_t>(d.size())});
    }
    if (static_cast<std::int64_t>(windows.size()) >= densest || 4 * static_cast<std::int64_t>(s.patches.size()) >= most)
      break;
  }
  return s;
}

}  // namespace katoptra
