#include "channel.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <queue>
#include <tuple>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/water/depressions.hpp"

#include "land.hpp"
#include "tiles.hpp"

namespace katoptra {
namespace {

struct Reached {
  double dug = 0;     // of the way here
  double length = 0;  // metres
  std::int64_t col = 0, row = 0;
  bool operator>(const Reached& o) const {
    return std::tuple(dug, length, row, col) > std::tuple(o.dug, o.length, o.row, o.col);
  }
};

// A search within one window of the land. `complete`: it did not run into the window's own rim.
class Search {
 public:
  Search(const Block& z, const ChannelLimits& limits)
      : z_(z),
        limits_(limits),
        most_dug_(limits.volume / (limits.vertical * limits.across * limits.down) * (1 + 1e-9)),
        cols_(z.window().cols),
        rows_(z.window().rows),
        best_(static_cast<std::size_t>(cols_ * rows_), std::numeric_limits<double>::infinity()),
        from_(best_.size(), -1),
        done_(best_.size(), 0) {
    for (int k = 0; k < 8; ++k)
      far_[static_cast<std::size_t>(k)] =
          std::hypot(static_cast<double>(kColStep[k]) * limits.across, static_cast<double>(kRowStep[k]) * limits.down);
  }

  // Place in the window of the end of the way; -1 when there is none.
  std::int64_t run(std::int64_t col, std::int64_t row, const Window& frame) {
    const float bottom = z_.at(col, row);
    best_[place(col, row)] = 0;
    queue_.push({0, 0, col, row});
    while (!queue_.empty()) {
      const Reached at = queue_.top();
      queue_.pop();
      const std::size_t i = place(at.col, at.row);
      if (done_[i]) continue;
      done_[i] = 1;
      const bool at_rim = at.col == 0 || at.row == 0 || at.col + 1 == cols_ || at.row + 1 == rows_;
      const std::int64_t c = z_.window().col + at.col, r = z_.window().row + at.row;
      const bool at_edge = c == 0 || r == 0 || c + 1 == frame.cols || r + 1 == frame.rows;
      if (z_.at(at.col, at.row) < bottom || at_edge || beside_void(at.col, at.row)) return static_cast<std::int64_t>(i);
      if (at_rim) {
        complete = false;
        return -1;
      }
      for (int k = 0; k < 8; ++k) step(at, k, bottom);
    }
    return -1;
  }

  bool complete = true;
  std::int64_t from(std::int64_t i) const { return from_[static_cast<std::size_t>(i)]; }

 private:
  std::size_t place(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>(r * cols_ + c); }
  bool beside_void(std::int64_t c, std::int64_t r) const {
    for (int k = 0; k < 8; ++k) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      if (nc >= 0 && nr >= 0 && nc < cols_ && nr < rows_ && is_way_out(z_.at(nc, nr))) return true;
    }
    return false;
  }
  void step(const Reached& at, int k, float bottom) {
    const std::int64_t c = at.col + kColStep[k], r = at.row + kRowStep[k];
    const float z = z_.at(c, r);
    const std::size_t i = place(c, r);
    if (std::isnan(z) || done_[i] || z - bottom > limits_.deepest) return;
    const double length = at.length + far_[static_cast<std::size_t>(k)],
                 dug = at.dug + std::max(0.0, static_cast<double>(z) - static_cast<double>(bottom));
    // A channel falls, so that more is dug than down to where it begins.
    if (length > limits_.longest || dug > most_dug_ || dug >= best_[i]) return;
    best_[i] = dug;
    from_[i] = static_cast<std::int64_t>(place(at.col, at.row));
    queue_.push({dug, length, c, r});
  }

  const Block& z_;
  const ChannelLimits& limits_;
  double most_dug_;
  std::array<double, 8> far_{};  // metres to each neighbour
  std::int64_t cols_, rows_;
  std::vector<double> best_;
  std::vector<std::int64_t> from_;
  std::vector<std::uint8_t> done_;
  std::priority_queue<Reached, std::vector<Reached>, std::greater<>> queue_;
};

// Falls evenly along the way from `end` back to the start.
Channel dug_along(const Block& z, const Search& search, std::int64_t end, const ChannelLimits& limits) {
  std::vector<std::int64_t> way;
  for (std::int64_t i = end; i >= 0; i = search.from(i)) way.push_back(i);
  std::reverse(way.begin(), way.end());
  const std::int64_t cols = z.window().cols;
  const auto height = [&](std::int64_t i) { return static_cast<double>(z.at(i % cols, i / cols)); };
  const double bottom = height(way.front()), foot = std::min(height(way.back()), bottom);
  Channel out;
  for (std::size_t k = 1; k < way.size(); ++k) {
    const double share = static_cast<double>(k) / static_cast<double>(way.size() - 1);
    const auto wanted = static_cast<float>(bottom + (foot - bottom) * share);
    if (!(static_cast<double>(wanted) < height(way[k]))) continue;
    out.volume += (height(way[k]) - static_cast<double>(wanted)) * limits.vertical * limits.across * limits.down;
    out.cells.push_back({static_cast<std::int32_t>(z.window().row + way[k] / cols),
                         static_cast<std::int32_t>(z.window().col + way[k] % cols), wanted});
  }
  return out;
}

}  // namespace

ChannelLimits channel_limits(const Grid& land, std::optional<Length> longest, std::optional<double> deepest) {
  const GroundSpacing s = ground_spacing(land.frame());
  constexpr double kCells = 100;
  const double cell = std::min(s.x.metres(), s.y.metres());
  if (longest && longest->metres() > kLongestChannel * cell)
    throw Error(ErrorCode::BadArgument,
                fmt::format("a channel of {:g} m is longer than {} cells of {:.4g} m", longest->metres(),
                            kLongestChannel, cell),
                "depressions", "take a shorter one, or burn its line in");
  return {.longest = longest ? longest->metres() : kCells * std::max(s.x.metres(), s.y.metres()),
          .deepest = deepest ? static_cast<float>(*deepest) : std::numeric_limits<float>::infinity(),
          .across = s.x.metres(),
          .down = s.y.metres(),
          .vertical = metres_per(land.quantity().unit)};
}

Channel cheapest_channel(const Grid& land, std::int64_t col, std::int64_t row, const ChannelLimits& limits) {
  const double least = std::min(limits.across, limits.down);
  const auto most = static_cast<std::int64_t>(std::min(limits.longest / least, double{kLongestChannel})) + 2;
  constexpr std::int64_t kFirst = 12;
  for (std::int64_t reach = std::min(kFirst, most);; reach = std::min(2 * reach, most)) {
    const Window w = Window{col - reach, row - reach, 2 * reach + 1, 2 * reach + 1}.intersected(land.frame().window());
    const Block z = land.read(w);
    Search search(z, limits);
    const std::int64_t end = search.run(col - w.col, row - w.row, land.frame().window());
    if (end >= 0) return dug_along(z, search, end, limits);
    if (search.complete || reach == most) return {};
  }
}

}  // namespace katoptra
