// Nearly every cell is dismissed by its eight neighbours; what is left is compared with the disc around it, nearest
// cells first, so that a cell of a slope is dismissed soon, too. Only true summits and pits see their whole disc.
#include "katoptra/terrain/spot_heights.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <memory>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kBytesPerSpot = 112;
constexpr double kSlack = 1.001;

struct Offset {
  std::int64_t col = 0, row = 0;
};

constexpr std::array<Offset, 8> kRound = {{{1, 0}, {1, 1}, {0, 1}, {-1, 1}, {-1, 0}, {-1, -1}, {0, -1}, {1, -1}}};

// Cells of the disc without its middle, nearest first; and those of its rim, in order round it.
struct SearchDisc {
  std::int64_t cols, rows;  // how far it reaches
  std::vector<Offset> inside, rim;

  SearchDisc(double across, double down)
      : cols(static_cast<std::int64_t>(std::floor(across))), rows(static_cast<std::int64_t>(std::floor(down))) {
    auto far = [=](const Offset& o) {
      return std::hypot(static_cast<double>(o.col) / across, static_cast<double>(o.row) / down);
    };
    for (std::int64_t r = -rows; r <= rows; ++r)
      for (std::int64_t c = -cols; c <= cols; ++c)
        if ((r != 0 || c != 0) && far({c, r}) <= 1) inside.push_back({c, r});
    std::stable_sort(inside.begin(), inside.end(), [&](auto& a, auto& b) { return far(a) < far(b); });
    const int n = static_cast<int>(std::clamp(6 * std::max(across, down), 16.0, 360.0));
    for (int i = 0; i < n; ++i) {
      const double turn = 2 * std::acos(-1.0) * i / n;
      rim.push_back(
          {std::llround(std::trunc(across) * std::cos(turn)), std::llround(std::trunc(down) * std::sin(turn))});
    }
  }
};

struct Found {
  SpotKind kind;
  std::int64_t col, row;
  float height;
  double strength;
};

class SpotFinder {
 public:
  SpotFinder(const Block& block, const Window& whole, const SearchDisc& disc, double relief)
      : block_(block), w_(block.window()), whole_(whole), disc_(disc), relief_(relief) {}

  template <class Take>
  void rows(std::int64_t first, std::int64_t end, const Take& take) const {
    for (std::int64_t r = first; r < end; ++r)
      for (std::int64_t c = 0; c < whole_.cols; ++c) look_at(c, r, take);
  }

 private:
  float at(std::int64_t c, std::int64_t r) const {
    return c < 0 || r < w_.row || c >= whole_.cols || r >= w_.row + w_.rows ? kVoid : block_.row(r - w_.row)[c];
  }

  template <class Take>
  void look_at(std::int64_t c, std::int64_t r, const Take& take) const {
    const float z = at(c, r);
    if (std::isnan(z)) return;
    int higher = 0, lower = 0, changes = 0;
    bool was_higher = at(c + kRound[7].col, r + kRound[7].row) >= z;
    for (const Offset& o : kRound) {
      const float other = at(c + o.col, r + o.row);
      if (std::isnan(other)) return;
      higher += other > z;
      lower += other < z;
      changes += (other >= z) != was_higher;
      was_higher = other >= z;
    }
    if (higher == 0 && is_extreme(c, r, z, 1))
      take(Found{SpotKind::Summit, c, r, z, 0});
    else if (lower == 0 && is_extreme(c, r, z, -1))
      take(Found{SpotKind::Pit, c, r, z, 0});
    else if (changes >= 4)
      if (const double s = saddle(c, r, z); s > 0 && s >= relief_ / 2) take(Found{SpotKind::Saddle, c, r, z, s});
  }

  bool is_extreme(std::int64_t c, std::int64_t r, float z, float sign) const {
    float least = z;
    for (const Offset& o : disc_.inside) {
      const float other = at(c + o.col, r + o.row);
      if (std::isnan(other)) continue;
      const bool earlier = o.row < 0 || (o.row == 0 && o.col < 0);
      if (sign * other > sign * z || (earlier && other == z)) return false;
      if (sign * other < sign * least) least = other;
    }
    const double relief = std::abs(static_cast<double>(z) - static_cast<double>(least));
    return relief > 0 && relief >= relief_;
  }

  // The least of two rises and two falls that follow each other round the rim; 0 when there are no four.
  double saddle(std::int64_t c, std::int64_t r, float z) const {
    std::vector<double> arcs;  // the farthest that each stretch of one sign stands off, in order
    const std::size_t n = disc_.rim.size();
    for (std::size_t i = 0; i < n; ++i) {
      const float other = at(c + disc_.rim[i].col, r + disc_.rim[i].row);
      if (std::isnan(other)) return 0;
      const double off = static_cast<double>(other) - static_cast<double>(z);
      if (!arcs.empty() && (arcs.back() > 0) == (off > 0))
        arcs.back() = off > 0 ? std::max(arcs.back(), off) : std::min(arcs.back(), off);
      else
        arcs.push_back(off);
    }
    if (arcs.size() > 1 && (arcs.front() > 0) == (arcs.back() > 0)) {
      arcs.front() = arcs.front() > 0 ? std::max(arcs.front(), arcs.back()) : std::min(arcs.front(), arcs.back());
      arcs.pop_back();
    }
    // Small stretches between two of the other sign are noise: the smallest goes, and joins its neighbours.
    while (arcs.size() > 4) {
      const auto least = static_cast<std::size_t>(
          std::min_element(arcs.begin(), arcs.end(), [](double a, double b) { return std::abs(a) < std::abs(b); }) -
          arcs.begin());
      const std::size_t before = (least + arcs.size() - 1) % arcs.size(), after = (least + 1) % arcs.size();
      arcs[before] = std::abs(arcs[before]) > std::abs(arcs[after]) ? arcs[before] : arcs[after];
      for (const std::size_t gone : {std::max(least, after), std::min(least, after)})
        arcs.erase(arcs.begin() + static_cast<std::ptrdiff_t>(gone));
    }
    if (arcs.size() < 4) return 0;
    double strength = std::numeric_limits<double>::infinity();
    for (const double a : arcs) strength = std::min(strength, std::abs(a));
    return strength;
  }

  const Block& block_;
  Window w_, whole_;
  const SearchDisc& disc_;
  double relief_;
};

// Of saddles near one another the most pronounced. First in each box of a lattice that is the same however the surface
// is cut into bands, so that no more are held than there are boxes; then among boxes.
class Saddles {
 public:
  explicit Saddles(const SearchDisc& disc)
      : disc_(disc), wide_(std::max<std::int64_t>(1, disc.cols / 4)), high_(std::max<std::int64_t>(1, disc.rows / 4)) {}

  void add(const Found& f) {
    const auto [at, fresh] = boxes_.try_emplace({f.row / high_, f.col / wide_}, f);
    if (!fresh && is_more(f, at->second)) at->second = f;
  }
  void add(const Saddles& others) {
    for (const auto& [box, f] : others.boxes_) add(f);
  }
  std::vector<Found> strongest() const {
    std::vector<Found> out;
    for (const auto& [box, f] : boxes_)
      if (!is_beaten(box, f)) out.push_back(f);
    return out;
  }
  std::size_t size() const { return boxes_.size(); }

 private:
  using Box = std::pair<std::int64_t, std::int64_t>;

  static bool is_more(const Found& a, const Found& b) {
    if (a.strength != b.strength) return a.strength > b.strength;
    return a.row != b.row ? a.row < b.row : a.col < b.col;
  }
  bool is_beaten(const Box& box, const Found& f) const {
    const std::int64_t up = disc_.rows / (2 * high_) + 1, across = disc_.cols / (2 * wide_) + 1;
    for (std::int64_t r = box.first - up; r <= box.first + up; ++r)
      for (auto other = boxes_.lower_bound({r, box.second - across});
           other != boxes_.end() && other->first <= Box{r, box.second + across}; ++other)
        if (const Found& g = other->second;
            is_more(g, f) && std::hypot(static_cast<double>(f.col - g.col) / static_cast<double>(disc_.cols),
                                        static_cast<double>(f.row - g.row) / static_cast<double>(disc_.rows)) <= 0.5)
          return true;
    return false;
  }

  const SearchDisc& disc_;
  std::int64_t wide_, high_;
  std::map<Box, Found> boxes_;
};

// The shortest number that is this float: 40.94, not 40.939998626708984.
double decimal(float z) { return std::strtod(fmt::format("{}", z).c_str(), nullptr); }

SearchDisc disc_of(const Grid& surface, const SpotOptions& o) {
  const GroundSpacing s = ground_spacing(surface.frame());
  const double metres = o.radius.metres();
  if (metres == 0) return {25, 25};
  // Ground metres are not quite those of the grid: two cells shall be two cells.
  const double across = kSlack * metres / s.x.metres(), down = kSlack * metres / s.y.metres();
  if (!(std::min(across, down) >= 2) || !(std::max(across, down) <= kWidestSpots))
    throw Error(ErrorCode::BadArgument,
                fmt::format("a radius of {:g} m is {:.3g} cells of this grid; it is at least 2 and at most {}", metres,
                            std::min(across, down), kWidestSpots),
                surface.info().name, "take another radius, or bring the surface to other cells first");
  return {across, down};
}

}  // namespace

const char* name_of(SpotKind kind) {
  switch (kind) {
    case SpotKind::Summit:
      return "summit";
    case SpotKind::Pit:
      return "pit";
    case SpotKind::Saddle:
      break;
  }
  return "saddle";
}

std::vector<SpotHeight> spot_heights(const Grid& surface, const SpotOptions& options) {
  const Quantity& q = surface.quantity();
  if (q.kind != QuantityKind::Height && q.kind != QuantityKind::Unknown)
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, no heights", name_of(q.kind)), surface.info().name,
                "give the surface it was made from");
  const SearchDisc disc = disc_of(surface, options);
  const Window whole = surface.frame().window();
  const std::int64_t band = std::max<std::int64_t>(band_rows(whole.cols, options.run), disc.rows);
  const auto bands = static_cast<std::size_t>((whole.rows + band - 1) / band);
  struct Part {
    std::vector<Found> found;  // summits and pits
    Saddles saddles;
  };
  Part all{{}, Saddles(disc)};
  parallel_ordered(
      bands, static_cast<std::size_t>(2 * thread_count(options.run)), options.run,
      [&](std::size_t i) -> std::shared_ptr<void> {
        const std::int64_t first = static_cast<std::int64_t>(i) * band, end = std::min(whole.rows, first + band),
                           from = std::max<std::int64_t>(0, first - disc.rows),
                           to = std::min(whole.rows, end + disc.rows);
        const Block block = surface.read({0, from, whole.cols, to - from});
        auto part = std::make_shared<Part>(Part{{}, Saddles(disc)});
        SpotFinder(block, whole, disc, options.relief.in(q.unit)).rows(first, end, [&](const Found& f) {
          if (f.kind == SpotKind::Saddle)
            part->saddles.add(f);
          else
            part->found.push_back(f);
        });
        return part;
      },
      [&](std::size_t, std::shared_ptr<void> made) {
        const auto& part = *static_cast<Part*>(made.get());
        all.found.insert(all.found.end(), part.found.begin(), part.found.end());
        all.saddles.add(part.saddles);
        if ((all.found.size() + all.saddles.size()) * kBytesPerSpot > options.run.memory)
          throw Error(ErrorCode::TooLarge, "more spot heights than fit into the memory allowed", "spot heights",
                      "take a longer radius or more relief, or allow more with --memory");
      });
  std::vector<Found> found = all.saddles.strongest();
  found.insert(found.end(), all.found.begin(), all.found.end());
  std::sort(found.begin(), found.end(),
            [](const Found& a, const Found& b) { return a.row != b.row ? a.row < b.row : a.col < b.col; });
  std::vector<SpotHeight> out;
  for (const Found& f : found)
    out.push_back(
        {f.kind, surface.frame().centre(static_cast<double>(f.col), static_cast<double>(f.row)), decimal(f.height)});
  return out;
}

Layer spot_layer(const std::vector<SpotHeight>& spots, const Grid& surface) {
  Layer layer{.name = "spot heights", .crs = surface.frame().crs(), .features = {}, .unit = surface.quantity().unit};
  for (const SpotHeight& s : spots)
    layer.features.push_back(
        {s.place,
         {{"kind", name_of(s.kind)}, {"height", s.height}, {"unit", unit_name(surface.quantity())}},
         {s.height}});
  return layer;
}

}  // namespace katoptra
