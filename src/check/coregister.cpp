#include "katoptra/check/coregister.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <numbers>
#include <span>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/reproject.hpp"

#include "correlation.hpp"
#include "least_squares.hpp"
#include "moments.hpp"
#include "remembered_reads.hpp"
#include "shift_places.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kBlock = 64;
constexpr int kMostSteps = 20;
constexpr double kShiftRest = 0.01;  // cells that the last step may be
// Each step looks at the same blocks, the second surface a little further on: the share of the budget that is kept of
// each surface, and cells around a block.
constexpr std::size_t kKeptShare = 16;
constexpr std::int64_t kFurtherOn = 8;
constexpr std::size_t kTogether = 1 << 15;  // samples that are summed in a go, whoever does it

// One cell that both surfaces know: reference less surface, the slope there and the place, all in metres. Differences
// and slopes are of both surfaces smoothed alike (kSmooth), so that what the interpolation between cells does to the
// finest of the ground moves nothing; `plain` is the difference as it is.
struct Sample {
  float difference, slope_x, slope_y, x, y, plain;
};

// A binomial, which leaves nothing of what goes up and down from cell to cell.
constexpr std::int64_t kHalfSmooth = 2;
constexpr double kSmooth[] = {1.0 / 16, 4.0 / 16, 6.0 / 16, 4.0 / 16, 1.0 / 16}, kAsItIs[] = {1};
constexpr std::size_t kFewCells = 200;  // fewer tell no shift
static_assert(kAroundReference == 1 + kHalfSmooth && kAroundSurface == kAroundReference + kFurtherOn);

std::int64_t blocks_in(std::int64_t cells) { return (cells + kBlock - 1) / kBlock; }

// Every so manieth block, so that about `cells` are looked at.
std::int64_t first_stride(const Frame& frame, std::int64_t cells) {
  const double share = static_cast<double>(cells) /
                       static_cast<double>(blocks_in(frame.cols()) * blocks_in(frame.rows()) * kBlock * kBlock);
  return share >= 1 ? 1 : static_cast<std::int64_t>(std::ceil(1 / std::sqrt(share)));
}

std::vector<Window> blocks_of(const Frame& frame, std::int64_t stride) {
  std::vector<Window> blocks;
  for (std::int64_t r = stride / 2; r < blocks_in(frame.rows()); r += stride)
    for (std::int64_t c = stride / 2; c < blocks_in(frame.cols()); c += stride)
      blocks.push_back(Window{c * kBlock, r * kBlock, kBlock, kBlock}.intersected(frame.window()));
  if (blocks.empty()) blocks.push_back(frame.window().intersected({0, 0, kBlock, kBlock}));
  return blocks;
}

// A window of values, each the weighted mean of those around it; void beside voids. `in` is wider by `half`, which is
// kHalfSmooth, or zero for values as they are.
class Smoothed {
 public:
  Smoothed(const Block& in, const Window& w, std::int64_t half)
      : cols_(w.cols), z_(static_cast<std::size_t>(w.cells())) {
    const std::span<const double> weights =
        half > 0 ? std::span<const double>(kSmooth) : std::span<const double>(kAsItIs);
    std::vector<double> across(static_cast<std::size_t>(w.cols * in.window().rows));
    for (std::int64_t r = 0; r < in.window().rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        double s = 0;
        for (std::size_t k = 0; k < weights.size(); ++k)
          s += weights[k] * static_cast<double>(in.at(c + static_cast<std::int64_t>(k), r));
        across[static_cast<std::size_t>(r * w.cols + c)] = s;
      }
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        double s = 0;
        for (std::size_t k = 0; k < weights.size(); ++k)
          s += weights[k] * across[static_cast<std::size_t>((r + static_cast<std::int64_t>(k)) * w.cols + c)];
        z_[static_cast<std::size_t>(r * w.cols + c)] = s;
      }
  }
  double at(std::int64_t c, std::int64_t r) const { return z_[static_cast<std::size_t>(r * cols_ + c)]; }

 private:
  std::int64_t cols_;
  std::vector<double> z_;
};

class Fitting {
 public:
  Fitting(const Grid& reference, const Grid& surface, const CoregisterOptions& options)
      : options_(options),
        a_(remembered(reference, 0)),
        b_(remembered(surface, kFurtherOn)),
        frame_(reference.frame()) {
    const GroundSpacing s = ground_spacing(frame_);
    cell_x_ = s.x.metres();
    cell_y_ = s.y.metres();
    unit_a_ = metres_per(reference.quantity().unit);
    unit_b_ = metres_per(surface.quantity().unit);
    middle_ = frame_.bounds().centre();
  }

  Coregistration run() {
    Coregistration c;
    c.pivot = middle_;
    c.crs = frame_.crs();
    double x = 0, y = 0, spin = 0;  // metres on the ground, radians
    double last_x = 0, last_y = 0;
    for (c.steps = 1; c.steps <= kMostSteps; ++c.steps) {
      std::vector<Sample> samples = c.steps == 1 ? first_samples() : gather(x, y, spin);
      // Smoothing costs a rim: of a surface of some hundred cells that is most of them.
      if (c.steps == 1 && samples.size() < kFewCells) {
        half_ = 0;
        samples = first_samples();
      }
      if (c.steps == 1) c.nmad_before = Length::metres(spread_of(samples));
      if (samples.size() < kFewCells) {
        c.why = fmt::format("only {} cells are known in both", samples.size());
        return c;
      }
      if (!fit(samples, c)) return c;
      x += step_x_;
      y += step_y_;
      spin += step_spin_;
      if (std::hypot(x / cell_x_, y / cell_y_) > 20) {
        c.why = "no shift below 20 cells brings them together";
        return c;
      }
      // Steps far below what the fit itself knows are noise.
      const double rest = std::max(kShiftStep, 0.2 * c.shift_error.metres() / std::min(cell_x_, cell_y_));
      const double size = std::hypot(step_x_ / cell_x_, step_y_ / cell_y_);
      // A surface that is resampled when it is moved, and is not when it lies still, goes to and fro by a hair.
      const double two = std::hypot((step_x_ + last_x) / cell_x_, (step_y_ + last_y) / cell_y_);
      if (size < rest || (size < kShiftRest && two < rest)) break;
      last_x = step_x_;
      last_y = step_y_;
    }
    // Which cells stand off may change for ever; what that moves must be small.
    if (c.steps > kMostSteps && std::hypot(step_x_ / cell_x_, step_y_ / cell_y_) > kShiftRest) {
      c.why = "the fit does not come to rest: there is too little slope, or the surfaces are not of the same ground";
      return c;
    }
    c.found = true;
    state_errors(gather_blocks(x, y, spin), c);
    c.east = Length::metres(x);
    c.north = Length::metres(y);
    c.cells_x = x / cell_x_;
    c.cells_y = y / cell_y_;
    c.shift = {x / cell_x_ * frame_.cell().x, y / cell_y_ * frame_.cell().y};
    c.rotation = Angle::radians(spin);
    c.cells_at_edge = std::abs(spin) * reach() / std::max(cell_x_, cell_y_);
    return c;
  }

 private:
  void take_blocks(std::int64_t stride) {
    stride_ = stride;
    blocks_ = blocks_of(frame_, stride);
  }

  // Where the surfaces meet in strips or patches only, few of the blocks hold any of them: then blocks are taken more
  // densely, or a handful of them would speak for all. Step by step, for what lies between them may be full.
  std::vector<Sample> first_samples() {
    take_blocks(first_stride(frame_, options_.cells));
    std::vector<Sample> samples = gather(0, 0, 0);
    while (stride_ > 1 && 4 * static_cast<std::int64_t>(samples.size()) < options_.cells) {
      take_blocks((stride_ + 1) / 2);
      samples = gather(0, 0, 0);
    }
    return samples;
  }

  // The surface on the reference's cells, read where it was before it is moved by x and y.
  Grid moved(double x, double y) const {
    const double dx = x / cell_x_ * frame_.cell().x, dy = y / cell_y_ * frame_.cell().y;
    const Frame from(frame_.crs(), frame_.west() - dx, frame_.north() - dy, frame_.cell(), frame_.cols(),
                     frame_.rows());
    const auto same = b_.frame().window_of(from);
    return same ? cut(b_, *same) : reproject(b_, from);
  }

  std::vector<Sample> gather(double x, double y, double spin) const {
    std::vector<Sample> all;
    for (const auto& p : gather_blocks(x, y, spin)) all.insert(all.end(), p.begin(), p.end());
    return all;
  }

  std::vector<std::vector<Sample>> gather_blocks(double x, double y, double spin) const {
    const Grid there = moved(x, y);
    std::vector<std::vector<Sample>> parts(blocks_.size());
    parallel_for(blocks_.size(), options_.run, [&](std::size_t i) {
      const Window w = blocks_[i], wide = w.grown(1), wider = wide.grown(half_);
      const Block plain_a = a_.read(wider), plain_b = there.read(wider);
      const Smoothed a(plain_a, wide, half_), b(plain_b, wide, half_);
      const auto z = [](const Smoothed& k, std::int64_t c, std::int64_t r) { return k.at(c, r); };
      for (std::int64_t r = 1; r <= w.rows; ++r)
        for (std::int64_t c = 1; c <= w.cols; ++c) {
          // Slopes of both, each without the cell itself, so that its noise is in the difference alone.
          const double gx =
                           ((z(a, c + 1, r) - z(a, c - 1, r)) * unit_a_ + (z(b, c + 1, r) - z(b, c - 1, r)) * unit_b_) /
                           (4 * cell_x_),
                       gy =
                           ((z(a, c, r - 1) - z(a, c, r + 1)) * unit_a_ + (z(b, c, r - 1) - z(b, c, r + 1)) * unit_b_) /
                           (4 * cell_y_);
          const double px = (static_cast<double>(w.col + c - 1) + 0.5 - static_cast<double>(frame_.cols()) / 2) *
                            cell_x_,
                       py = (static_cast<double>(frame_.rows()) / 2 - static_cast<double>(w.row + r - 1) - 0.5) *
                            cell_y_;
          // What an already known rotation makes of the surface, to the first order.
          const double turned = spin * (px * gy - py * gx), d = z(a, c, r) * unit_a_ - z(b, c, r) * unit_b_ + turned;
          if (std::isnan(d) || std::isnan(gx) || std::isnan(gy)) continue;
          const double plain = static_cast<double>(plain_a.at(c + half_, r + half_)) * unit_a_ -
                               static_cast<double>(plain_b.at(c + half_, r + half_)) * unit_b_ + turned;
          parts[i].push_back({static_cast<float>(d), static_cast<float>(gx), static_cast<float>(gy),
                              static_cast<float>(px), static_cast<float>(py), static_cast<float>(plain)});
        }
    });
    return parts;
  }

  static double spread_of(const std::vector<Sample>& samples) {
    std::vector<double> d;
    for (const Sample& s : samples) d.push_back(static_cast<double>(s.plain));
    return robust_deviation(d, median_of(d));
  }

  // What one fit says of itself takes differences for independent from cell to cell; they are not. Sums over blocks
  // tell what neighbours make of it (White 1980, by blocks), and the reach of the errors what goes on beyond a block.
  void state_errors(const std::vector<std::vector<Sample>>& blocks, Coregistration& c) const {
    // Small surfaces give more, smaller blocks.
    constexpr std::size_t kEnough = 36;
    std::int64_t side = kBlock;
    for (; side > 16 && blocks.size() * static_cast<std::size_t>((kBlock / side) * (kBlock / side)) < kEnough;
         side /= 2) {
    }
    const std::size_t n = unknowns();
    std::map<std::pair<std::int64_t, std::int64_t>, std::array<double, LeastSquares::kMost>> sums;
    LeastSquares normal(n);
    Variogram together;
    std::int64_t cells = 0;
    for (std::size_t i = 0; i < blocks.size(); ++i) {
      const Window& w = blocks_[i];
      std::vector<float> rests(static_cast<std::size_t>(w.cells()), kVoid);
      for (const Sample& s : blocks[i]) {
        const auto r = row(s);
        const double rest = rest_of(s, r);
        if (std::abs(rest - centre_) > limit_) continue;
        const std::int64_t col = std::llround(static_cast<double>(s.x) / cell_x_ +
                                              static_cast<double>(frame_.cols()) / 2 - 0.5),
                           at = std::llround(static_cast<double>(frame_.rows()) / 2 -
                                             static_cast<double>(s.y) / cell_y_ - 0.5);
        rests[static_cast<std::size_t>((at - w.row) * w.cols + col - w.col)] = static_cast<float>(rest);
        auto& sum = sums[{at / side, col / side}];
        for (std::size_t k = 0; k < n; ++k) sum[k] += r[k] * rest;
        normal.add(r, rest);
        ++cells;
      }
      together.add(rests, w.cols, w.rows);
    }
    if (sums.size() <= n || !normal.solve()) return;
    std::array<double, LeastSquares::kMost> variance{};
    for (const auto& [place, sum] : sums) {
      const auto moved = normal.solved(sum);
      for (std::size_t k = 0; k < n; ++k) variance[k] += moved[k] * moved[k];
    }
    const ErrorModel model = together.fit();
    const double of_all = std::sqrt(static_cast<double>(cells)) * static_cast<double>(stride_),
                 beyond = std::max(1.0, model.alike(of_all) / model.alike(static_cast<double>(side)));
    const auto m = static_cast<double>(sums.size()), freedom = m - static_cast<double>(n);
    // One block more or less makes little difference to the sums; few of them do to how well their spread is known.
    const double times = std::sqrt(beyond * m / freedom) * two_sided_95(freedom) / kTwoSided95;
    const auto error = [&](std::size_t k, double floor) { return std::hypot(times * std::sqrt(variance[k]), floor); };
    const double floor = kShiftBias * std::min(cell_x_, cell_y_);
    c.east_error = Length::metres(error(0, floor));
    c.north_error = Length::metres(error(1, floor));
    c.shift_error = std::max(c.east_error, c.north_error);
    c.offset_error = Length::metres(error(2, 0));
    if (options_.tilt) c.tilt_error = std::max(error(3, 0), error(4, 0)) / reach();
  }

  double rest_of(const Sample& s, const std::array<double, LeastSquares::kMost>& r) const {
    double v = static_cast<double>(s.difference);
    for (std::size_t i = 0; i < unknowns(); ++i) v -= r[i] * last_[i];
    return v;
  }

  // Unknowns: shift east, shift north, offset, then tilts and rotation as asked for.
  std::array<double, LeastSquares::kMost> row(const Sample& s) const {
    const auto gx = static_cast<double>(s.slope_x), gy = static_cast<double>(s.slope_y), x = static_cast<double>(s.x),
               y = static_cast<double>(s.y);
    std::array<double, LeastSquares::kMost> r{-gx, -gy, 1};
    std::size_t i = 3;
    if (options_.tilt) {
      r[i++] = x / reach();
      r[i++] = y / reach();
    }
    if (options_.rotation) r[i] = (y * gx - x * gy) / reach();
    return r;
  }
  std::size_t unknowns() const { return 3 + (options_.tilt ? 2u : 0u) + (options_.rotation ? 1u : 0u); }
  double reach() const {
    return std::max(static_cast<double>(frame_.cols()) * cell_x_, static_cast<double>(frame_.rows()) * cell_y_) / 2;
  }

  void in_parts(std::span<const Sample> samples,
                const std::function<void(std::size_t, std::span<const Sample>)>& of_part) const {
    parallel_for((samples.size() + kTogether - 1) / kTogether, options_.run, [&](std::size_t p) {
      of_part(p, samples.subspan(p * kTogether, std::min(kTogether, samples.size() - p * kTogether)));
    });
  }

  // Of the samples that the last fit leaves within its limit; joined in their order.
  LeastSquares fit_to_what_stays(const std::vector<Sample>& samples) const {
    std::vector<LeastSquares> sums(samples.size() / kTogether + 1, LeastSquares(unknowns()));
    in_parts(samples, [&](std::size_t p, std::span<const Sample> some) {
      for (const Sample& s : some)
        if (const auto r = row(s); !(std::abs(rest_of(s, r) - centre_) > limit_))
          sums[p].add(r, static_cast<double>(s.difference));
    });
    LeastSquares all(unknowns());
    for (const LeastSquares& s : sums) all.add(s);
    return all;
  }

  bool fit(const std::vector<Sample>& samples, Coregistration& c) {
    double spread = 0;
    centre_ = 0;
    limit_ = INFINITY;
    auto& x = last_;
    x = {};
    LeastSquares last(unknowns());
    std::vector<double> left(samples.size());
    for (int round = 0; round < 4; ++round) {
      LeastSquares l = fit_to_what_stays(samples);
      c.cells = l.count();
      if (!l.solve()) {
        c.why = "the ground is too even to tell a shift";
        return false;
      }
      last = l;
      for (std::size_t i = 0; i < unknowns(); ++i) x[i] = l.value(i);
      in_parts(samples, [&](std::size_t p, std::span<const Sample> some) {
        for (std::size_t i = 0; i < some.size(); ++i) left[p * kTogether + i] = rest_of(some[i], row(some[i]));
      });
      centre_ = median_of(left);
      spread = robust_deviation(left, centre_);
      limit_ = 3 * std::max(spread, 1e-9);
    }
    for (std::size_t i = 0; i < samples.size(); ++i)
      left[i] += static_cast<double>(samples[i].plain) - static_cast<double>(samples[i].difference);
    const double plain_spread = robust_deviation(left, median_of(left));
    step_x_ = x[0];
    step_y_ = x[1];
    c.offset = Length::metres(x[2]);
    c.tilt_x = options_.tilt ? x[3] / reach() : 0;
    c.tilt_y = options_.tilt ? x[4] / reach() : 0;
    step_spin_ = options_.rotation ? x[unknowns() - 1] / reach() : 0;
    c.nmad_after = Length::metres(plain_spread);
    c.shift_error = Length::metres(spread * std::max(last.error(0), last.error(1)));
    c.offset_error = Length::metres(spread * last.error(2));
    c.tilt_error = options_.tilt ? spread * std::max(last.error(3), last.error(4)) / reach() : 0;
    if (c.shift_error.metres() > 0.25 * std::min(cell_x_, cell_y_)) {
      c.why = fmt::format("the ground is too even to tell a shift (it would be known to {:.2f} m only)",
                          c.shift_error.metres());
      return false;
    }
    return true;
  }

  Grid remembered(const Grid& g, std::int64_t around) const {
    return Grid(std::make_shared<RememberedReads>(g, around, options_.run.memory / kKeptShare));
  }

  const CoregisterOptions& options_;
  Grid a_, b_;
  const Frame& frame_;
  double cell_x_ = 1, cell_y_ = 1, unit_a_ = 1, unit_b_ = 1;
  std::vector<Window> blocks_;
  std::int64_t stride_ = 1;  // of the blocks
  std::int64_t half_ = kHalfSmooth;
  Point middle_;
  double step_x_ = 0, step_y_ = 0, step_spin_ = 0;
  // Of the last fit: its unknowns, and what is left to be within `limit_` of `centre_`.
  std::array<double, LeastSquares::kMost> last_{};
  double centre_ = 0, limit_ = INFINITY;
};

}  // namespace

std::vector<Window> shift_places(const Frame& frame, std::int64_t cells) {
  return blocks_of(frame, first_stride(frame, cells));
}

Correction Coregistration::correction() const {
  return {.offset = offset,
          .shift = shift,
          .crs = crs,
          .tilt_x = tilt_x,
          .tilt_y = tilt_y,
          .rotation = rotation,
          .pivot = pivot};
}

Coregistration coregister(const Grid& reference, const Grid& surface, const CoregisterOptions& options) {
  for (const Grid* g : {&reference, &surface})
    if (!g->frame().crs())
      throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be laid over another",
                  g->info().name, "tell it with --crs");
  return Fitting(reference, surface, options).run();
}

}  // namespace katoptra
