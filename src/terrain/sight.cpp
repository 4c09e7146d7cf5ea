// All cells of a row look in the same direction at once: what they see after k steps is a row of the block, some
// columns aside, so that the inner loop runs along two rows of heights and one of results. Directions are taken one
// after the other; each leaves the steepest tangents up and down, from which the product of a cell is made.
#include "katoptra/terrain/sight.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <numbers>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/position.hpp"

#include "base/clones.hpp"
#include "product_info.hpp"
#include "sight_lines.hpp"
#include "words.hpp"

namespace katoptra {
namespace {

constexpr double kToDegrees = 180 / std::numbers::pi;
constexpr int kCellsUnlessTold = 50;

// NaN loses every comparison, so voids are not met.
KATOPTRA_CLONES void look_up_and_down(const float* __restrict a, const float* __restrict b, const float* __restrict z,
                                      float share, float per_metre, std::int64_t n, float* __restrict highest,
                                      float* __restrict lowest) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float met = a[c] + share * (b[c] - a[c]), tangent = (met - z[c]) * per_metre;
    highest[c] = tangent > highest[c] ? tangent : highest[c];
    lowest[c] = tangent < lowest[c] ? tangent : lowest[c];
  }
}

KATOPTRA_CLONES void look_up(const float* __restrict a, const float* __restrict b, const float* __restrict z,
                             float share, float per_metre, std::int64_t n, float* __restrict highest) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float met = a[c] + share * (b[c] - a[c]), tangent = (met - z[c]) * per_metre;
    highest[c] = tangent > highest[c] ? tangent : highest[c];
  }
}

}  // namespace

SightLine::SightLine(double azimuth, CellsPerMetre reach) {
  constexpr double kAlmostZero = 1e-9;  // sines of whole quarters are not quite zero
  double x = std::sin(azimuth) * reach.across, y = -std::cos(azimuth) * reach.down;
  if (std::abs(x) < kAlmostZero * std::abs(y)) x = 0;
  if (std::abs(y) < kAlmostZero * std::abs(x)) y = 0;
  if (std::abs(x) >= std::abs(y)) {
    across_ = x < 0 ? -1 : 1;
    along_ = y / std::abs(x);
    metres_ = 1 / std::abs(x);
  } else {
    down_ = y < 0 ? -1 : 1;
    along_ = x / std::abs(y);
    metres_ = 1 / std::abs(y);
  }
}

std::int64_t SightLine::steps_in(double metres) const {
  return static_cast<std::int64_t>(metres / metres_ * (1 + 1e-9));
}

SightLine::Place SightLine::at(std::int64_t k) const {
  constexpr double kOnCell = 1e-6;
  const double aside = static_cast<double>(k) * along_;
  double whole = std::floor(aside), share = aside - whole;
  if (share > 1 - kOnCell) {
    whole += 1;
    share = 0;
  }
  if (share < kOnCell) share = 0;
  const auto w = static_cast<std::int64_t>(whole);
  return across_ != 0 ? Place{k * across_, w, static_cast<float>(share)}
                      : Place{w, k * down_, static_cast<float>(share)};
}

void look_along(const Block& in, const SightLine& line, std::int64_t first, std::int64_t last, double vertical,
                const float* heights, SightCells cells, float* highest, float* lowest) {
  for (std::int64_t k = first; k <= last; ++k) {
    const SightLine::Place p = line.at(k);
    const float* a = in.row(cells.row + p.row) + cells.col + p.col;
    // On a cell its neighbour has no say: it may be a void.
    const float* b = p.share == 0           ? a
                     : line.next_is_below() ? in.row(cells.row + p.row + 1) + cells.col + p.col
                                            : a + 1;
    const auto per_metre = static_cast<float>(vertical / (static_cast<double>(k) * line.metres()));
    if (lowest)
      look_up_and_down(a, b, heights, p.share, per_metre, cells.n, highest, lowest);
    else
      look_up(a, b, heights, p.share, per_metre, cells.n, highest);
  }
}

Length sight_radius(const Grid& surface, const std::optional<Length>& given) {
  if (given) {
    require_radius(surface, *given);
    return *given;
  }
  const GroundSpacing cell = ground_spacing(surface.frame());
  return std::max(std::min(cell.x, cell.y) * kCellsUnlessTold, std::max(cell.x, cell.y) * 2);
}

namespace {

// What is made of the tangents: `highest` and `lowest` hold `n` of them for each direction, infinite where nothing was
// met.
struct Seen {
  const std::vector<float>&highest, &lowest;
  std::size_t n;
  int directions;
};
class SightKernel {
 public:
  virtual ~SightKernel() = default;
  virtual bool looks_down() const = 0;
  virtual float value(const Seen& s, std::size_t cell) const = 0;
};

class SightSource final : public GridSource {
 public:
  SightSource(Grid input, GridInfo info, Length radius, int directions, double vertical,
              std::unique_ptr<const SightKernel> kernel)
      : input_(std::move(input)),
        info_(std::move(info)),
        ruler_(info_.frame.crs()),
        radius_(radius.metres()),
        directions_(directions),
        vertical_(vertical),
        kernel_(std::move(kernel)) {}
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Stretches stretches(info_.frame, ruler_, w);
    const CellsPerMetre most = stretches.most();
    const auto right = static_cast<std::int64_t>(radius_ * most.across) + 2,
               down = static_cast<std::int64_t>(radius_ * most.down) + 2;
    const Block in = input_.read({w.col - right, w.row - down, w.cols + 2 * right, w.rows + 2 * down}, out.planes());
    constexpr float kUnmet = std::numeric_limits<float>::infinity();
    std::vector<float> highest, lowest;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const std::int64_t from = stretches.from(s), n = stretches.end(s) - from;
        const auto all = static_cast<std::size_t>(n * directions_);
        highest.assign(all, -kUnmet);
        if (kernel_->looks_down()) lowest.assign(all, kUnmet);
        const SightCells cells{from + right, r + down, n};
        const float* z = in.row(cells.row) + cells.col;
        for (int d = 0; d < directions_; ++d) {
          const SightLine line(2 * std::numbers::pi * d / directions_, stretches.at(r, s));
          look_along(in, line, 1, line.steps_in(radius_), vertical_, z, cells, highest.data() + d * n,
                     kernel_->looks_down() ? lowest.data() + d * n : nullptr);
        }
        const Seen seen{highest, lowest, static_cast<std::size_t>(n), directions_};
        for (std::int64_t c = 0; c < n; ++c)
          out.row(r)[from + c] = std::isnan(z[c]) ? kVoid : kernel_->value(seen, static_cast<std::size_t>(c));
      }
      if (out.origin) std::copy_n(in.origin_row(r + down) + right, w.cols, out.origin_row(r));
    }
  }

 private:
  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  double radius_;
  int directions_;
  double vertical_;
  std::unique_ptr<const SightKernel> kernel_;
};

class Openness final : public SightKernel {
 public:
  explicit Openness(OpennessKind kind) : kind_(kind) {}
  bool looks_down() const override { return kind_ == OpennessKind::Below; }
  float value(const Seen& s, std::size_t cell) const override {
    const bool below = kind_ == OpennessKind::Below;
    const std::vector<float>& tangents = below ? s.lowest : s.highest;
    double sum = 0;
    int count = 0;
    for (std::size_t i = cell; i < static_cast<std::size_t>(s.directions) * s.n; i += s.n) {
      if (std::isinf(tangents[i])) continue;
      sum += static_cast<double>(std::atan(below ? -tangents[i] : tangents[i]));
      ++count;
    }
    return count == 0 ? kVoid : static_cast<float>(90 - sum / count * kToDegrees);
  }

 private:
  OpennessKind kind_;
};

class SkyView final : public SightKernel {
 public:
  bool looks_down() const override { return false; }
  float value(const Seen& s, std::size_t cell) const override {
    double sum = 0;
    int count = 0;
    for (std::size_t i = cell; i < static_cast<std::size_t>(s.directions) * s.n; i += s.n) {
      const float t = s.highest[i];
      if (std::isinf(t)) continue;
      ++count;
      if (t > 0) sum += static_cast<double>(t / std::sqrt(1 + t * t));
    }
    return count == 0 ? 1 : static_cast<float>(1 - sum / count);
  }
};

// By how many directions rise and how many fall: fig. 4 of Jasiewicz & Stepiński 2013, in the order of classes_of.
enum GroundForm : std::uint8_t { None, Flat, Summit, Ridge, Shoulder, Spur, Slope, Hollow, Footslope, Valley, Pit };
constexpr std::array<std::array<GroundForm, 9>, 9> kForms{{
    // that rise:  0        1         2         3          4          5       6       7       8      that fall:
    {Flat, Flat, Flat, Footslope, Footslope, Valley, Valley, Valley, Pit},        // 0
    {Flat, Flat, Footslope, Footslope, Footslope, Valley, Valley, Valley, None},  // 1
    {Flat, Shoulder, Slope, Slope, Hollow, Hollow, Valley, None, None},           // 2
    {Shoulder, Shoulder, Slope, Slope, Slope, Hollow, None, None, None},          // 3
    {Shoulder, Shoulder, Spur, Slope, Slope, None, None, None, None},             // 4
    {Ridge, Ridge, Spur, Spur, None, None, None, None, None},                     // 5
    {Ridge, Ridge, Ridge, None, None, None, None, None, None},                    // 6
    {Ridge, Ridge, None, None, None, None, None, None, None},                     // 7
    {Summit, None, None, None, None, None, None, None, None},                     // 8
}};

class Forms final : public SightKernel {
 public:
  explicit Forms(Angle flat) : flat_(flat.radians()) {}
  bool looks_down() const override { return true; }
  float value(const Seen& s, std::size_t cell) const override {
    std::size_t rise = 0, fall = 0;
    for (std::size_t i = cell; i < static_cast<std::size_t>(s.directions) * s.n; i += s.n) {
      if (std::isinf(s.highest[i])) continue;
      const double both = static_cast<double>(std::atan(s.highest[i])) + static_cast<double>(std::atan(s.lowest[i]));
      if (both > flat_) ++rise;
      if (both < -flat_) ++fall;
    }
    return static_cast<float>(kForms[fall][rise]);
  }

 private:
  double flat_;
};

void require_directions(int n, const char* what) {
  if (n != 8 && n != 16 && n != 32)
    throw Error(ErrorCode::BadArgument, fmt::format("{} directions are not evenly around", n), what,
                "take 8, 16 or 32");
}

Grid sight_product(const Grid& surface, GridInfo info, const SightOptions& o, std::unique_ptr<const SightKernel> kernel,
                   const char* what) {
  require_directions(o.directions, what);
  const Length radius = sight_radius(surface, o.radius);
  if (!o.radius) info.notes.push_back(fmt::format("looked as far as {:.3g} m", radius.metres()));
  require_exaggeration(o.exaggeration, what);
  const double vertical = metres_per(surface.quantity().unit) * o.exaggeration;
  return Grid(
      std::make_shared<SightSource>(surface, std::move(info), radius, o.directions, vertical, std::move(kernel)));
}

// ---- classes by slope and position

class PositionClasses final : public GridSource {
 public:
  PositionClasses(GridInfo info, Grid slope, Grid near, Grid far, Angle flat)
      : info_(std::move(info)),
        slope_(std::move(slope)),
        near_(std::move(near)),
        far_(std::move(far)),
        flat_(static_cast<float>(flat.degrees())) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Planes planes = out.planes();
    const Block steep = slope_.read(w, planes), near = near_.read(w), far = far_ ? far_.read(w) : Block();
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float s = steep.at(c, r), n = near.at(c, r), f = far_ ? far.at(c, r) : 0;
        out.row(r)[c] = std::isnan(s + n + f) ? kVoid : static_cast<float>(far_ ? by_scale(s, n, f) : on_slope(s, n));
      }
      if (out.origin) std::copy_n(steep.origin_row(r), w.cols, out.origin_row(r));
    }
  }

 private:
  // Valley, lower slope, flat, middle slope, upper slope, ridge.
  int on_slope(float slope, float deviations) const {
    if (deviations <= -1) return 1;
    if (deviations <= -0.5f) return 2;
    if (deviations < 0.5f) return slope <= flat_ ? 3 : 4;
    return deviations < 1 ? 5 : 6;
  }
  int by_scale(float slope, float near, float far) const {
    const auto third = [](float v) { return v <= -1 ? 0 : v < 1 ? 1 : 2; };
    constexpr int kCodes[3][3] = {{1, 2, 3}, {4, 5, 7}, {8, 9, 10}};  // near, far
    const int code = kCodes[third(near)][third(far)];
    return code == 5 && slope > flat_ ? 6 : code;
  }

  GridInfo info_;
  Grid slope_, near_, far_;
  float flat_;
};

constexpr const char* kOpenness[] = {"above", "below"};
constexpr const char* kBy[] = {"sight", "position"};

}  // namespace

OpennessKind parse_openness_kind(std::string_view text) {
  return value_of<OpennessKind>(kOpenness, text, "is no kind of openness");
}
LandformsBy parse_landforms_by(std::string_view text) {
  return value_of<LandformsBy>(kBy, text, "is no way to tell landforms");
}

Grid openness(const Grid& surface, OpennessKind kind, const SightOptions& options) {
  return sight_product(surface, product_info(surface, QuantityKind::Openness, "degree", SampleType::Float32), options,
                       std::make_unique<Openness>(kind), "openness");
}

Grid sky_view(const Grid& surface, const SightOptions& options) {
  return sight_product(surface, product_info(surface, QuantityKind::SkyView, "", SampleType::Float32), options,
                       std::make_unique<SkyView>(), "sky-view");
}

Grid landforms(const Grid& surface, const LandformOptions& o) {
  const bool by_sight = o.by == LandformsBy::Sight;
  const Angle flat = o.flat.value_or(Angle::degrees(by_sight ? 1 : 5));
  if (!(flat.degrees() > 0 && flat.degrees() < 90))
    throw Error(ErrorCode::BadArgument,
                fmt::format("{:g} degrees are not what flat ground keeps below", flat.degrees()), "landforms",
                "take an angle above 0 and below 90 degrees");
  if (o.radii.size() > (by_sight ? 1u : 2u))
    throw Error(ErrorCode::BadArgument,
                fmt::format("{} radii, where {}", o.radii.size(),
                            by_sight ? "lines of sight have one" : "a near and a far one are compared"),
                "landforms", by_sight ? "give one, or take --by position" : "give one or two");
  if (by_sight) {
    SightOptions sight{.radius = {}, .directions = 8};
    if (!o.radii.empty()) sight.radius = o.radii.front();
    return sight_product(surface, product_info(surface, QuantityKind::Landform, "", SampleType::UInt8), sight,
                         std::make_unique<Forms>(flat), "landforms");
  }
  const bool scales = o.radii.size() == 2;
  GridInfo info = product_info(surface, scales ? QuantityKind::LandformByScale : QuantityKind::SlopePosition, "",
                               SampleType::UInt8);
  std::vector<Length> radii = o.radii;
  if (radii.empty()) radii.push_back(sight_radius(surface, {}));
  std::sort(radii.begin(), radii.end());
  const auto at = [&](Length r) { return position(surface, {.radii = {r}, .as = PositionAs::Deviations}); };
  return Grid(std::make_shared<PositionClasses>(std::move(info), slope(surface), at(radii.front()),
                                                scales ? at(radii.back()) : Grid(), flat));
}

}  // namespace katoptra
