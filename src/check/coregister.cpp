#include "katoptra/check/coregister.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/reproject.hpp"

#include "least_squares.hpp"
#include "moments.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kBlock = 64;
constexpr int kMostSteps = 20;
constexpr double kShiftRest = 0.01;  // cells that the last step may be

// One cell that both surfaces know: reference less surface, the slope there and the place, all in metres.
struct Sample {
  float difference, slope_x, slope_y, x, y;
};

class Fitting {
 public:
  Fitting(const Grid& reference, const Grid& surface, const CoregisterOptions& options)
      : a_(reference), b_(surface), options_(options), frame_(reference.frame()) {
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
      if (c.steps == 1) c.nmad_before = Length::metres(spread_of(samples));
      if (samples.size() < 200) {
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
    c.shift_error = Length::metres(std::hypot(std::max(c.shift_error.metres(), error_by_parts(gather(x, y, spin))),
                                              kShiftBias * std::min(cell_x_, cell_y_)));
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
  // All cells of a small surface, every so manieth block, across and down, of a large one.
  void take_blocks(std::int64_t step) {
    stride_ = step;
    blocks_.clear();
    for (std::int64_t r = step / 2; r < blocks_down(); r += step)
      for (std::int64_t c = step / 2; c < blocks_across(); c += step)
        blocks_.push_back(Window{c * kBlock, r * kBlock, kBlock, kBlock}.intersected(frame_.window()));
    if (blocks_.empty()) blocks_.push_back(frame_.window().intersected({0, 0, kBlock, kBlock}));
  }

  std::int64_t blocks_across() const { return (frame_.cols() + kBlock - 1) / kBlock; }
  std::int64_t blocks_down() const { return (frame_.rows() + kBlock - 1) / kBlock; }

  std::int64_t first_stride() const {
    const double share =
        static_cast<double>(options_.cells) / static_cast<double>(blocks_across() * blocks_down() * kBlock * kBlock);
    return share >= 1 ? 1 : static_cast<std::int64_t>(std::ceil(1 / std::sqrt(share)));
  }

  // Where the surfaces meet in strips or patches only, few of the blocks hold any of them: then blocks are taken more
  // densely, or a handful of them would speak for all. Step by step, for what lies between them may be full.
  std::vector<Sample> first_samples() {
    take_blocks(first_stride());
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
    const Grid there = moved(x, y);
    std::vector<std::vector<Sample>> parts(blocks_.size());
    parallel_for(blocks_.size(), options_.run, [&](std::size_t i) {
      const Window w = blocks_[i], wide = w.grown(1);
      const Block a = a_.read(wide), b = there.read(wide);
      auto z = [](const Block& k, std::int64_t c, std::int64_t r) { return static_cast<double>(k.at(c, r)); };
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
          const double d = z(a, c, r) * unit_a_ - z(b, c, r) * unit_b_ + spin * (px * gy - py * gx);
          if (std::isnan(d) || std::isnan(gx) || std::isnan(gy)) continue;
          parts[i].push_back({static_cast<float>(d), static_cast<float>(gx), static_cast<float>(gy),
                              static_cast<float>(px), static_cast<float>(py)});
        }
    });
    std::vector<Sample> all;
    for (const auto& p : parts) all.insert(all.end(), p.begin(), p.end());
    return all;
  }

  static double spread_of(const std::vector<Sample>& samples) {
    std::vector<double> d;
    for (const Sample& s : samples) d.push_back(static_cast<double>(s.difference));
    return robust_deviation(d, median_of(d));
  }

  // How far parts of the area disagree about the shift, over the root of their number. What one fit says of itself
  // takes the differences for independent from cell to cell; they are not, and it was thirty times too sure.
  double error_by_parts(const std::vector<Sample>& samples) const {
    constexpr int kSide = 4;
    std::vector<std::vector<Sample>> parts(kSide * kSide);
    const double wide = static_cast<double>(frame_.cols()) * cell_x_,
                 high = static_cast<double>(frame_.rows()) * cell_y_;
    for (const Sample& s : samples) {
      const auto c = std::clamp(static_cast<int>((static_cast<double>(s.x) / wide + 0.5) * kSide), 0, kSide - 1),
                 r = std::clamp(static_cast<int>((static_cast<double>(s.y) / high + 0.5) * kSide), 0, kSide - 1);
      parts[static_cast<std::size_t>(r * kSide + c)].push_back(s);
    }
    std::vector<std::array<double, 2>> shifts;
    for (const auto& part : parts) {
      if (part.size() < 200) continue;
      LeastSquares l(3);
      const double limit = 5 * spread_of(part) + 1e-9;
      std::vector<double> d;
      for (const Sample& s : part) d.push_back(static_cast<double>(s.difference));
      const double middle = median_of(d);
      for (const Sample& s : part) {
        if (std::abs(static_cast<double>(s.difference) - middle) > limit) continue;
        std::array<double, LeastSquares::kMost> r{-static_cast<double>(s.slope_x), -static_cast<double>(s.slope_y), 1};
        l.add(r, static_cast<double>(s.difference));
      }
      if (l.solve()) shifts.push_back({l.value(0), l.value(1)});
    }
    if (shifts.size() < 3) return 0;
    double worst = 0;
    for (int k : {0, 1}) {
      std::vector<double> v;
      for (const auto& s : shifts) v.push_back(s[static_cast<std::size_t>(k)]);
      worst = std::max(worst, robust_deviation(v, median_of(v)) / std::sqrt(static_cast<double>(v.size())));
    }
    return worst;
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

  bool fit(const std::vector<Sample>& samples, Coregistration& c) {
    double centre = 0, limit = INFINITY, spread = 0;
    std::array<double, LeastSquares::kMost> x{};
    LeastSquares last(unknowns());
    for (int round = 0; round < 4; ++round) {
      LeastSquares l(unknowns());
      c.cells = 0;
      auto residual = [&](const Sample& s, const std::array<double, LeastSquares::kMost>& r) {
        double v = static_cast<double>(s.difference);
        for (std::size_t i = 0; i < unknowns(); ++i) v -= r[i] * x[i];
        return v;
      };
      for (const Sample& s : samples) {
        const auto r = row(s);
        if (std::abs(residual(s, r) - centre) > limit) continue;
        l.add(r, static_cast<double>(s.difference));
        ++c.cells;
      }
      if (!l.solve()) {
        c.why = "the ground is too even to tell a shift";
        return false;
      }
      last = l;
      for (std::size_t i = 0; i < unknowns(); ++i) x[i] = l.value(i);
      std::vector<double> left;
      for (const Sample& s : samples) left.push_back(residual(s, row(s)));
      centre = median_of(left);
      spread = robust_deviation(left, centre);
      limit = 3 * std::max(spread, 1e-9);
    }
    step_x_ = x[0];
    step_y_ = x[1];
    c.offset = Length::metres(x[2]);
    c.tilt_x = options_.tilt ? x[3] / reach() : 0;
    c.tilt_y = options_.tilt ? x[4] / reach() : 0;
    step_spin_ = options_.rotation ? x[unknowns() - 1] / reach() : 0;
    c.nmad_after = Length::metres(spread);
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

  const Grid &a_, &b_;
  const CoregisterOptions& options_;
  const Frame& frame_;
  double cell_x_ = 1, cell_y_ = 1, unit_a_ = 1, unit_b_ = 1;
  std::vector<Window> blocks_;
  std::int64_t stride_ = 1;  // of the blocks
  Point middle_;
  double step_x_ = 0, step_y_ = 0, step_spin_ = 0;
};

}  // namespace

Correction Coregistration::correction() const {
  return {
      .factor = 1, .offset = offset, .shift = shift, .crs = crs, .tilt_x = tilt_x, .tilt_y = tilt_y, .pivot = pivot};
}

Coregistration coregister(const Grid& reference, const Grid& surface, const CoregisterOptions& options) {
  for (const Grid* g : {&reference, &surface})
    if (!g->frame().crs())
      throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be laid over another",
                  g->info().name, "tell it with --crs");
  return Fitting(reference, surface, options).run();
}

}  // namespace katoptra
