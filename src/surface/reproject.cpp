#include "katoptra/surface/reproject.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <mutex>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/turn.hpp"

#include "base/clones.hpp"
#include "geo/conversion.hpp"
#include "grid/bilinear.hpp"
#include "grid/error_kernel.hpp"
#include "mean.hpp"
#include "patch_field.hpp"
#include "smoothness.hpp"
#include "unevenness.hpp"
#include "warp_doubt.hpp"

namespace katoptra {
namespace {

// ---------------------------------------------------------------------------------------------------------- kernels

inline Floats4 load_four(const float* p) {
  Floats4 v;
  std::memcpy(&v, p, sizeof v);
  return v;
}

// Keys' weights (a = -1/2) of the four samples around a place `x` beyond the second of them, `stride` apart.
inline void cubic_weights(float x, float* w, std::int64_t stride = 1) {
  w[0] = ((-0.5F * x + 1.0F) * x - 0.5F) * x;
  w[stride] = (1.5F * x - 2.5F) * x * x + 1.0F;
  w[2 * stride] = ((-1.5F * x + 2.0F) * x + 0.5F) * x;
  w[3 * stride] = (0.5F * x - 0.5F) * x * x;
}
struct CubicWeights {
  float w[4][kRun];
  void set(const float* t) {
    for (std::int64_t k = 0; k < kRun; ++k) cubic_weights(t[k], &w[0][k], kRun);
  }
};

// The hot loop of a warp. Along a run of output cells the place in the source advances by one step, so places need no
// transformation here; all lanes are worked out first (cell, share beyond it, weights), then the sixteen samples of
// each are fetched as four rows of four and weighed column by column, four cells at a time. Everything that depends on
// data (voids, the rim) is settled before or after the loop: a branch inside would keep the compiler from making
// vectors. A cell with a void among its sixteen comes out NaN by itself and is done again by the bilinear kernel.
//
// Cubic over the first `n` cells of a run (at most kRun); `corner`: the block's first cell. Differences to the
// nearest sample are weighed instead of values, so that 32-bit floats lose nothing. NaN where a sample is a void or
// lies outside.
KATOPTRA_CLONES void cubic_run(const float* block, std::int64_t cols, std::int64_t rows, const Run& run, Point corner,
                               std::int64_t n, float* out) {
  if (cols < 4 || rows < 4) {
    std::fill_n(out, n, kVoid);
    return;
  }
  std::int32_t ix[kRun], iy[kRun];
  float u[kRun], v[kRun];
  // Lanes beyond the run repeat its last cell. No branch in here: it must become vectors.
  const auto last = static_cast<std::int32_t>(n - 1);
  const double fx = run.first.x, fy = run.first.y, sx = run.step.x, sy = run.step.y, skip = run.skip;
  const auto x_of = [=](std::int32_t k) { return fx + (skip + k) * sx - 0.5 - corner.x; };
  const auto y_of = [=](std::int32_t k) { return fy + (skip + k) * sy - 0.5 - corner.y; };
  const double x_most = static_cast<double>(cols - 2), y_most = static_cast<double>(rows - 2);
  const auto inside = [=](std::int32_t k) {
    return x_of(k) >= 1 && y_of(k) >= 1 && x_of(k) < x_most && y_of(k) < y_most;
  };
  const bool all_inside = inside(0) && inside(last);
  if (all_inside)
    for (std::int32_t k = 0; k < kRun; ++k) {
      const std::int32_t i = k < last ? k : last;
      const double x = x_of(i), y = y_of(i);
      ix[k] = static_cast<std::int32_t>(x);
      iy[k] = static_cast<std::int32_t>(y);
      u[k] = static_cast<float>(x - ix[k]);
      v[k] = static_cast<float>(y - iy[k]);
    }
  else
    for (std::int32_t k = 0; k < kRun; ++k) {
      // Cells that reach outside are computed somewhere inside, and taken away again.
      const std::int32_t i = k < last ? k : last;
      const double x = inside(i) ? x_of(i) : 1, y = inside(i) ? y_of(i) : 1;
      ix[k] = static_cast<std::int32_t>(x);
      iy[k] = static_cast<std::int32_t>(y);
      u[k] = static_cast<float>(x - ix[k]);
      v[k] = static_cast<float>(y - iy[k]);
    }
  CubicWeights wx, wy;
  wx.set(u);
  wy.set(v);
  float done[kRun];
  for (std::int64_t k = 0; k < n; k += 4) {
    Floats4 columns[4], near;
    for (std::int64_t j = 0; j < 4; ++j) {
      const float* p = block + (iy[k + j] - 1) * cols + ix[k + j] - 1;
      const float z = p[cols + 1];
      near[j] = z;
      columns[j] = ((load_four(p) - z) * wy.w[0][k + j] + (load_four(p + cols) - z) * wy.w[1][k + j]) +
                   ((load_four(p + 2 * cols) - z) * wy.w[2][k + j] + (load_four(p + 3 * cols) - z) * wy.w[3][k + j]);
    }
    // Four cells' sums of columns, turned so that a lane is a cell.
    const Floats4 a = __builtin_shufflevector(columns[0], columns[1], 0, 4, 1, 5),
                  b = __builtin_shufflevector(columns[0], columns[1], 2, 6, 3, 7),
                  c = __builtin_shufflevector(columns[2], columns[3], 0, 4, 1, 5),
                  d = __builtin_shufflevector(columns[2], columns[3], 2, 6, 3, 7);
    const Floats4 c0 = __builtin_shufflevector(a, c, 0, 1, 4, 5), c1 = __builtin_shufflevector(a, c, 2, 3, 6, 7),
                  c2 = __builtin_shufflevector(b, d, 0, 1, 4, 5), c3 = __builtin_shufflevector(b, d, 2, 3, 6, 7);
    const Floats4 value = near + ((c0 * load_four(wx.w[0] + k) + c1 * load_four(wx.w[1] + k)) +
                                  (c2 * load_four(wx.w[2] + k) + c3 * load_four(wx.w[3] + k)));
    std::memcpy(done + k, &value, sizeof value);
  }
  std::memcpy(out, done, static_cast<std::size_t>(n) * sizeof(float));
  if (!all_inside)
    for (std::int32_t k = 0; k <= last; ++k)
      if (!inside(k)) out[k] = kVoid;
}

// No place, or one so far out that it is no cell number.
inline bool far_away(Point p) { return !(std::abs(p.x) <= 1e15 && std::abs(p.y) <= 1e15); }

// A source block and the lookups of the kernels; cells outside it are voids.
class Sampler {
 public:
  explicit Sampler(const Block& block)
      : block_(block),
        w_(block.window()),
        one_for_all_(block.uncertainty_row(0) && all_alike(block.uncertainty_row(0), w_.cells())) {}

  float cell(std::int64_t c, std::int64_t r) const {
    c -= w_.col;
    r -= w_.row;
    if (c < 0 || r < 0 || c >= w_.cols || r >= w_.rows) return kVoid;
    return block_.row(r)[c];
  }
  Origin origin(std::int64_t c, std::int64_t r) const {
    c -= w_.col;
    r -= w_.row;
    if (c < 0 || r < 0 || c >= w_.cols || r >= w_.rows) return 0;
    return block_.origin_row(r)[c];
  }
  // Cubic for the cells of a run; bilinear where a sample around is missing.
  void cubic(const Run& run, std::int64_t n, float* out) const {
    if (std::isnan(run.first.x + run.first.y + run.step.x + run.step.y)) {
      std::fill_n(out, n, kVoid);
      return;
    }
    const Point corner{static_cast<double>(w_.col), static_cast<double>(w_.row)};
    cubic_run(block_.row(0), w_.cols, w_.rows, run, corner, n, out);
    for (std::int64_t k = 0; k < n; ++k)
      if (std::isnan(out[k])) {
        const Point p = run.at(k);
        out[k] = far_away(p) ? kVoid : bilinear(p);
      }
  }

  float nearest(Point p) const {
    return cell(static_cast<std::int64_t>(std::floor(p.x)), static_cast<std::int64_t>(std::floor(p.y)));
  }

  float uncertainty(std::int64_t c, std::int64_t r) const {
    c -= w_.col;
    r -= w_.row;
    if (c < 0 || r < 0 || c >= w_.cols || r >= w_.rows) return kVoid;
    return block_.uncertainty_row(r)[c];
  }
  FourAround around(Point p) const {
    return {p.x, p.y, [this](std::int64_t c, std::int64_t r) { return cell(c, r); },
            [this](std::int64_t c, std::int64_t r) { return uncertainty(c, r); }};
  }

  // Looks up what the uncertainty of a run is worked out from; false when a cell of it needs more care: at the rim of
  // the block, or beside a void.
  bool lanes(const Run& run, std::int64_t n, const Unevenness& ground, DoubtLanes& to) const {
    std::int32_t at[kRun];
    const Point corner{static_cast<double>(w_.col), static_cast<double>(w_.row)};
    if (!lane_places(run, corner, w_.cols, w_.rows, n, at, to)) return false;
    const float *z = block_.row(0), *s = block_.uncertainty_row(0);
    const auto wide = static_cast<std::int32_t>(w_.cols);
    if (one_for_all_)
      for (float* lane : {to.s00, to.s10, to.s01, to.s11}) std::fill_n(lane, n, s[0]);
    else
      for (std::int64_t k = 0; k < n; ++k) {
        const std::int32_t i = at[k];
        to.s00[k] = s[i];
        to.s10[k] = s[i + 1];
        to.s01[k] = s[i + wide];
        to.s11[k] = s[i + wide + 1];
      }
    const float *x = ground.x(), *y = ground.y();
    for (std::int64_t k = 0; k < n; ++k) {
      to.rough_x[k] = x[at[k]];
      to.rough_y[k] = y[at[k]];
    }
    if (ground.whole()) return true;
    float known = 0;
    for (std::int64_t k = 0; k < n; ++k) {
      const std::int32_t i = at[k];
      known += (z[i] + z[i + 1]) + (z[i + wide] + z[i + wide + 1]);
    }
    return !std::isnan(known);
  }

  // The variance of a single cell at a place `u` and `v` beyond the middle of cell (c, r): between those of the four
  // around.
  float own_variance(Point p, std::int64_t c, std::int64_t r, float u, float v) const {
    const std::int64_t i = c - w_.col, j = r - w_.row;
    if (i >= 0 && j >= 0 && i + 1 < w_.cols && j + 1 < w_.rows) {
      const float *z = block_.row(j) + i, *s = block_.uncertainty_row(j) + i;
      const std::int64_t below = w_.cols;
      const float known = z[0] + z[1] + z[below] + z[below + 1];
      if (!std::isnan(known)) {
        const float upper = (1 - u) * s[0] * s[0] + u * s[1] * s[1],
                    lower = (1 - u) * s[below] * s[below] + u * s[below + 1] * s[below + 1];
        return (1 - v) * upper + v * lower;
      }
    }
    return static_cast<float>(around(p).own_variance());
  }

  float bilinear(Point p) const {
    return static_cast<float>(
        katoptra::bilinear(p.x, p.y, [this](std::int64_t c, std::int64_t r) { return cell(c, r); }));
  }

 private:
  const Block& block_;
  Window w_;
  bool one_for_all_;  // every cell is as sure as any other
};

constexpr std::int64_t kAround = 4;
constexpr double kKernelReach = 0.75;  // cells over which a kernel makes errors go together
// How much of a mean square difference is left out, before left_out_on (docs/uncertainty.md).
constexpr float kNearestLeaves = 0.75F, kBilinearLeaves = 1.7F, kCubicLeaves = 0.16F;

class WarpSource final : public GridSource {
 public:
  WarpSource(Grid input, GridInfo info, Resampling method, const SourceCells& cells)
      : input_(std::move(input)),
        info_(std::move(info)),
        method_(method),
        cells_(cells),
        errors_(input_.info()),
        shares_x_(errors_, true, [](float t, float* w) { cubic_weights(t, w); }),
        shares_y_(errors_, false, [](float t, float* w) { cubic_weights(t, w); }),
        noise_x_(static_cast<float>(noise_in_difference(errors_, order(), true))),
        noise_y_(static_cast<float>(noise_in_difference(errors_, order(), false))) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    const PatchField field(cells_, out.window);
    Window need = source_window(field, out.window).intersected(input_.frame().window());
    if (must_split(need, out.window, info_.name)) return in_halves(out, [this](const BlockView& half) { read(half); });
    if (need.empty()) need = {0, 0, 1, 1};
    const Block block = input_.read(need, out.planes());
    std::optional<Unevenness> ground;
    if (out.uncertainty) {
      std::call_once(learnt_, [this] { learn(); });
      ground.emplace(block, order(), rooms_);
    }
    fill(out, field, Sampler(block), ground ? &*ground : nullptr);
  }

 private:
  Window source_window(const PatchField& field, const Window& w) const {
    Bounds box;
    constexpr std::int64_t kReach = 2;
    // Along the rim of the window suffices for a continuous map; patches that are exact may hide a fold, so take all.
    auto take = [&](std::int64_t c, std::int64_t r) {
      const Patch& p = field.patch(c, r);
      const Point q = p.at(c - PatchField::floor_div(c) * kPatch, r - PatchField::floor_div(r) * kPatch);
      if (!std::isnan(q.x)) box.include(q);
    };
    bool all = false;
    for (const Patch& p : field.all()) all = all || p.parts > 2;
    for (std::int64_t r = w.row; r < w.row + w.rows; ++r)
      for (std::int64_t c = w.col; c < w.col + w.cols;
           c += all || r == w.row || r == w.row + w.rows - 1 || w.cols == 1 ? 1 : w.cols - 1)
        take(c, r);
    if (box.empty()) return {};
    return cells_around(box).grown(kReach + 1);
  }

  void fill(const BlockView& out, const PatchField& field, const Sampler& sampler, const Unevenness* ground) const {
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const std::int64_t row = w.row + r, patch_row = row - PatchField::floor_div(row) * kPatch;
      std::int64_t c = 0;
      while (c < w.cols) {
        const std::int64_t col = w.col + c, first = PatchField::floor_div(col) * kPatch;
        const std::int64_t end = std::min(w.cols, first + kPatch - w.col);
        const Patch& patch = field.patch(col, row);
        run(out, r, c, end, col - first, patch_row, patch, sampler, ground);
        c = end;
      }
    }
  }

  void run(const BlockView& out, std::int64_t r, std::int64_t c, std::int64_t end, std::int64_t patch_col,
           std::int64_t patch_row, const Patch& patch, const Sampler& sampler, const Unevenness* ground) const {
    while (c < end) {
      const Run cells = patch.run(patch_col, patch_row);
      const std::int64_t n = std::min(cells.cells, end - c);
      float* to = out.row(r) + c;
      if (method_ == Resampling::Cubic)
        sampler.cubic(cells, n, to);
      else
        for (std::int64_t k = 0; k < n; ++k) to[k] = one(cells.at(k), sampler);
      if (out.origin)
        for (std::int64_t k = 0; k < n; ++k)
          out.origin_row(r)[c + k] = std::isnan(to[k]) ? 0 : resampled_origin(sampler, cells.at(k));
      if (ground) doubt(cells, n, to, sampler, *ground, out.uncertainty_row(r) + c);
      c += n;
      patch_col += n;
    }
  }
  float one(Point p, const Sampler& sampler) const {
    if (far_away(p)) return kVoid;
    return method_ == Resampling::Nearest ? sampler.nearest(p) : sampler.bilinear(p);
  }

  // What the errors of the cells under the kernel become, and what the kernel itself leaves out of the ground between
  // them: by how uneven it is there beyond what noise makes of it.
  void doubt(const Run& cells, std::int64_t n, const float* z, const Sampler& sampler, const Unevenness& ground,
             float* out) const {
    DoubtLanes lanes;
    if (std::isnan(cells.first.x + cells.first.y + cells.step.x + cells.step.y) ||
        !sampler.lanes(cells, n, ground, lanes))
      return doubt_one_by_one(cells, n, z, sampler, ground, out);
    kernel_variances(n, lanes);
    doubt_of(lanes, n, leaves_, method_ == Resampling::Nearest, noise_x_, noise_y_, out);
    round_doubts(out, n);
    for (std::int64_t k = 0; k < n; ++k)
      if (std::isnan(z[k])) out[k] = kVoid;
  }
  void kernel_variances(std::int64_t n, DoubtLanes& l) const {
    std::fill_n(l.share, n, method_ == Resampling::Bilinear ? 0.0F : 1.0F);
    std::fill_n(l.more, n, 0.0F);
    if (method_ == Resampling::Cubic) kernel_shares(shares_x_, shares_y_, n, l);
    if (method_ == Resampling::Bilinear) bilinear_variances(errors_, n, l);
  }
  void doubt_one_by_one(const Run& cells, std::int64_t n, const float* z, const Sampler& sampler,
                        const Unevenness& ground, float* out) const {
    for (std::int64_t k = 0; k < n; ++k) {
      if (std::isnan(z[k])) {
        out[k] = kVoid;
        continue;
      }
      const Point p = cells.at(k);
      const double x = p.x - 0.5, y = p.y - 0.5, c = std::floor(x), r = std::floor(y);
      const auto u = static_cast<float>(x - c), v = static_cast<float>(y - r);
      const auto col = static_cast<std::int64_t>(c), row = static_cast<std::int64_t>(r);
      const Unevenness::Along rough = ground.at(col, row);
      const float own = sampler.own_variance(p, col, row, u, v);
      float variance = own;
      if (method_ == Resampling::Bilinear) variance = static_cast<float>(sampler.around(p).variance(errors_));
      if (method_ == Resampling::Cubic) variance = own * (shares_x_.at(u) * shares_y_.at(v));
      const float left = share_left(u) * std::max(0.0F, rough.x - own * noise_x_) +
                         share_left(v) * std::max(0.0F, rough.y - own * noise_y_);
      out[k] = rounded_uncertainty(std::sqrt(variance + left));
    }
  }
  // How smooth the ground under the output is, at places that do not depend on what is read.
  void learn() const {
    constexpr int kAlong = 6;
    std::vector<Point> cells;
    for (int j = 0; j < kAlong; ++j)
      for (int i = 0; i < kAlong; ++i) {
        const auto place = [](int k, std::int64_t n) { return (2 * k + 1) * n / (2 * kAlong); };
        cells.push_back(
            {static_cast<double>(place(i, info_.frame.cols())), static_cast<double>(place(j, info_.frame.rows()))});
      }
    cells_.exact(cells);
    const double times = left_out_on(order(), growth_of_differences(input_, cells, order(), errors_));
    leaves_ = static_cast<float>(times * times) * (method_ == Resampling::Nearest    ? kNearestLeaves
                                                   : method_ == Resampling::Bilinear ? kBilinearLeaves / 4
                                                                                     : kCubicLeaves);
  }
  int order() const { return method_ == Resampling::Nearest ? 1 : method_ == Resampling::Bilinear ? 2 : 3; }
  // Of the mean square of a difference, how much is left out a share `t` of the way to the next cell.
  float share_left(float t) const {
    const float side = t * (1 - t), near = std::min(t, 1 - t);
    return leaves_ * (method_ == Resampling::Nearest ? near * near : side * side);
  }

  Grid input_;
  GridInfo info_;
  Resampling method_;
  SourceCells cells_;
  ErrorKernel errors_;
  KernelShares shares_x_, shares_y_;  // of the cubic kernel
  float noise_x_, noise_y_;           // of a cell's variance, in a difference of this order
  mutable Unevenness::Rooms rooms_;
  mutable std::once_flag learnt_;
  mutable float leaves_ = 0;  // of a mean square of differences
};

// A number of the series 1, 1.5, 2, 2.5, 3, 4, 5, 6, 8 times a power of ten, nearest by ratio.
double round_number(double v) {
  const double power = std::pow(10, std::floor(std::log10(v)));
  double best = power, distance = 1e9;
  for (double n : {1.0, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0})
    if (const double d = std::abs(std::log(v / (n * power))); d < distance) {
      distance = d;
      best = n * power;
    }
  return best;
}

}  // namespace

const char* name_of(Resampling r) {
  switch (r) {
    case Resampling::Nearest:
      return "nearest";
    case Resampling::Bilinear:
      return "bilinear";
    case Resampling::Cubic:
      return "cubic";
    case Resampling::Mean:
      return "mean";
    case Resampling::Automatic:
      break;
  }
  return "auto";
}

Resampling parse_resampling(std::string_view text) {
  for (Resampling r :
       {Resampling::Automatic, Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic, Resampling::Mean})
    if (text == name_of(r)) return r;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a way to resample", text), {},
              "use nearest, bilinear, cubic, mean or auto");
}

Resampling resolved(Resampling method, const Grid& grid, const Frame& to) {
  if (method != Resampling::Automatic) return method;
  const QuantityKind kind = grid.quantity().kind;
  if (is_coded(kind) || kind == QuantityKind::Aspect) return Resampling::Nearest;
  const GroundSpacing a = ground_spacing(grid.frame()), b = ground_spacing(to);
  const bool much_larger = b.x / a.x > kMeanFrom || b.y / a.y > kMeanFrom;
  return much_larger ? Resampling::Mean : Resampling::Cubic;
}

Grid reproject(const Grid& grid, const Frame& to, Resampling method) {
  if (!grid.frame().crs() || !to.crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so nobody knows where it lies",
                grid.info().name, "tell it with --from-crs");
  const Resampling used = resolved(method, grid, to);
  GridInfo info = grid.info();
  info.frame = to;
  // Neighbours of a finer lattice share the cells they were made of.
  if (info.error_reach && used != Resampling::Nearest && used != Resampling::Mean)
    info.error_reach =
        Length::metres(std::hypot(info.error_reach->metres(), kKernelReach * ground_spacing(grid.frame()).y.metres()));
  if (used != Resampling::Nearest && is_integer(info.type) && info.quantity.kind != QuantityKind::Shade) {
    info.notes.push_back(fmt::format("{} resampled makes fractions of {} values: written as float32", name_of(used),
                                     name_of(info.type)));
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  if (Transform(grid.frame().crs(), to.crs()).is_ballpark())
    info.notes.push_back(
        fmt::format("the datum shift from {} to {} is not known here and was left out: places may be off by metres to "
                    "hundreds of metres",
                    grid.frame().crs().label(), to.crs().label()));
  // The kernels reach a few cells beyond the meridian where a globe is cut: there lies its other end.
  const std::int64_t globe = columns_of_globe(grid.frame());
  const Grid from = globe > 0 ? continued_around(grid, kAround) : grid;
  if (used == Resampling::Mean) return mean_resampled(from, std::move(info), globe > 0 ? kAround : 0);
  const SourceCells cells(from.frame(), to);
  return Grid(std::make_shared<WarpSource>(from, std::move(info), used, cells));
}

Point SkewLattice::cell_at(Point p) const {
  const double det = column.x * row.y - column.y * row.x, x = p.x - corner.x, y = p.y - corner.y;
  return {(x * row.y - y * row.x) / det, (y * column.x - x * column.y) / det};
}

bool SkewLattice::is_valid() const {
  const double det = column.x * row.y - column.y * row.x;
  return std::isfinite(det) && std::isfinite(corner.x) && std::isfinite(corner.y) &&
         std::abs(det) > 1e-9 * std::hypot(column.x, column.y) * std::hypot(row.x, row.y) && det != 0;
}

Angle SkewLattice::turned_by() const { return Angle::radians(std::atan2(column.y, column.x)); }

Frame upright_frame(const Crs& crs, const SkewLattice& l, std::int64_t cols, std::int64_t rows) {
  Bounds box;
  for (const double c : {0.0, static_cast<double>(cols)})
    for (const double r : {0.0, static_cast<double>(rows)})
      box.include(Point{l.corner.x + c * l.column.x + r * l.row.x, l.corner.y + c * l.column.y + r * l.row.y});
  const CellSize cell{std::hypot(l.column.x, l.column.y), std::hypot(l.row.x, l.row.y)};
  const auto cells = [](double extent, double edge) {
    return std::max<std::int64_t>(1, static_cast<std::int64_t>(std::ceil(extent / edge - kSameLattice)));
  };
  return {crs, box.west, box.north, cell, cells(box.width(), cell.x), cells(box.height(), cell.y)};
}

namespace {

Resampling for_straightening(const Grid& grid) {
  const QuantityKind kind = grid.quantity().kind;
  return is_coded(kind) || kind == QuantityKind::Aspect ? Resampling::Nearest : Resampling::Cubic;
}

}  // namespace

Grid straightened(const Grid& grid, const SkewLattice& lattice, const Frame& to) {
  GridInfo info = grid.info();
  info.frame = to;
  const Resampling used = for_straightening(grid);
  if (used != Resampling::Nearest && is_integer(info.type)) {
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  return Grid(std::make_shared<WarpSource>(grid, std::move(info), used, SourceCells(lattice, to)));
}

Grid made_upright(const Grid& grid, const SkewLattice& lattice) {
  const Frame& f = grid.frame();
  return relabelled(
      straightened(grid, lattice, upright_frame(f.crs(), lattice, f.cols(), f.rows())), [&](GridInfo& info) {
        info.notes.push_back(fmt::format(
            "its rows are turned by {:.3f} degrees against the axes of its CRS: resampled ({}) to upright cells",
            lattice.turned_by().degrees(), name_of(for_straightening(grid))));
      });
}

CellEdge parse_cell_edge(std::string_view text, std::optional<LengthUnit> bare) {
  for (const std::string_view unit : {"\"", "'", "deg", "°"})
    if (text.ends_with(unit)) return Angle::parse(text);
  return bare ? Length::parse(text, *bare) : Length::parse(text);
}

namespace {

CellSize cell_of(const CellEdge& edge, const Crs& crs, Point at) {
  const auto* angle = std::get_if<Angle>(&edge);
  if (!angle) return cell_for(crs, std::get<Length>(edge), at);
  if (!crs.is_geographic())
    throw Error(ErrorCode::BadArgument,
                fmt::format("a cell of {:g} degrees, but {} does not count in degrees", angle->degrees(), crs.label()),
                "cell", "give the cell as a length, such as 1m");
  if (!(angle->degrees() > 0))
    throw Error(ErrorCode::BadArgument, fmt::format("a cell of {:g} degrees has no size", angle->degrees()), "cell",
                "give one above zero");
  return {angle->degrees(), angle->degrees()};
}

}  // namespace

namespace {

// The cells of a lattice that a box touches.
Frame lattice_over(const Frame& lattice, Bounds box) {
  box = lattice.told_here(box);
  const auto c0 = static_cast<std::int64_t>(std::floor(lattice.col_at(box.west) + kSameLattice)),
             r0 = static_cast<std::int64_t>(std::floor(lattice.row_at(box.north) + kSameLattice)),
             c1 = static_cast<std::int64_t>(std::ceil(lattice.col_at(box.east) - kSameLattice)),
             r1 = static_cast<std::int64_t>(std::ceil(lattice.row_at(box.south) - kSameLattice));
  return lattice.sub({c0, r0, std::max<std::int64_t>(1, c1 - c0), std::max<std::int64_t>(1, r1 - r0)});
}

}  // namespace

namespace {

// A world on a polar map has no end: a frame that has vastly more cells than what it is made of is a mistake, and where
// to clip is what helps.
void refuse_endless(const Frame& source, const Crs& crs, const Bounds& box, CellSize cell,
                    const FrameOptions& options) {
  const double cells = std::max(1.0, box.width() / cell.x) * std::max(1.0, box.height() / cell.y);
  const double most = std::max(4e9, 64 * static_cast<double>(source.cols()) * static_cast<double>(source.rows()));
  if (cells <= most && (options.area || options.cell || cells <= most / 16)) return;
  const Bounds use = area_of_use(crs);
  throw Error(
      ErrorCode::BadArgument,
      fmt::format("all of it in {} would take {:.2g} cells: parts lie where that system stretches without an end",
                  crs.label(), cells),
      "frame",
      use.empty() ? "say with --area which part is wanted"
                  : fmt::format("it is made for box:{:g},{:g},{:g},{:g}: give that, or less, as --area", use.west,
                                use.south, use.east, use.north));
}

}  // namespace

Frame frame_for(const Frame& source, const Crs& crs, const FrameOptions& options) {
  if (!source.crs() || !crs)
    throw Error(ErrorCode::Refused, "a coordinate reference system is missing", "frame", "tell it with --crs");
  const Bounds box =
      options.area ? options.area->in(crs).bounds() : transformed(source.bounds(), Transform(source.crs(), crs));
  if (box.empty())
    throw Error(ErrorCode::BadArgument, fmt::format("no part of it can be shown in {}", crs.label()), "frame",
                "choose a system that is made for this place");
  // In the system that it has already, a grid keeps its own lattice unless another cell is asked for.
  if (!options.cell && crs.same_place(source.crs())) return options.area ? lattice_over(source, box) : source;
  CellSize cell;
  if (options.cell) {
    cell = cell_of(*options.cell, crs, box.centre());
  } else {
    const GroundSpacing s = ground_spacing(source);
    const double wanted = std::sqrt(s.x.metres() * s.y.metres());
    if (crs.is_geographic()) {
      const CellSize raw = cell_for(crs, s.y, box.centre());
      cell.x = cell.y = round_number(raw.y * 3600) / 3600;
    } else {
      cell.x = cell.y = round_number(wanted / crs.unit_factor());
    }
  }
  refuse_endless(source, crs, box, cell, options);
  return Frame::snapped(crs, box, cell);
}

void exact_source_cells(const Frame& source, const Frame& to, std::span<Point> cells) {
  SourceCells(source, to).exact(cells);
}

}  // namespace katoptra
