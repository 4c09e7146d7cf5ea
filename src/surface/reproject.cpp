#include "katoptra/surface/reproject.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kPatch = 128;                // output cells that are checked together
constexpr std::int64_t kRun = 64;                   // the longest run of evenly spaced places
constexpr std::int64_t kMostSourceCells = 4 << 20;  // of one source block, before the output window is split
constexpr std::int64_t kMostSourceCellsForOne = 16 << 20;

// Fractional source cells of output cells; a cell i of the source spans [i, i + 1).
class SourceCells {
 public:
  SourceCells(const Frame& from, const Frame& to) : from_(from), to_(to), transform_(to.crs(), from.crs()) {}

  void exact(std::span<Point> cells) const {
    for (Point& p : cells) p = to_.centre(p.x, p.y);
    transform_.forward(cells);
    for (Point& p : cells) p = {from_.col_at(from_.told_here(p.x)), from_.row_at(p.y)};
  }
  bool is_affine() const { return transform_.is_identity(); }

 private:
  Frame from_, to_;
  Transform transform_;
};

// Where a run of output cells in a row comes from, as long as that is evenly spaced: cell k from first + (skip + k) *
// step. `first` belongs to the interval and not to the run, so that a cell has the same bits in every window.
struct Run {
  Point first, step;
  double skip = 0;
  std::int64_t cells = 0;
  Point at(std::int64_t k) const {
    const double n = skip + static_cast<double>(k);
    return {first.x + n * step.x, first.y + n * step.y};
  }
};

// One patch: bilinear between exact points, `parts` intervals a side; or every cell exact, where that is not good
// enough.
struct Patch {
  std::int64_t parts = 1;
  std::vector<Point> nodes;  // (parts + 1) x (parts + 1), or kPatch x kPatch when `exact`
  bool exact = false;

  // The cells from column `c` of row `r` of the patch, to the end of their interval.
  Run run(std::int64_t c, std::int64_t r) const {
    if (exact) return {nodes[static_cast<std::size_t>(r * kPatch + c)], {0, 0}, 0, 1};
    const std::int64_t size = kPatch / parts, i = c / size, j = r / size;
    const double v = static_cast<double>(r - j * size) / static_cast<double>(size);
    const Point *top = &nodes[static_cast<std::size_t>(j * (parts + 1) + i)], *low = top + parts + 1;
    const Point left{(1 - v) * top[0].x + v * low[0].x, (1 - v) * top[0].y + v * low[0].y},
        right{(1 - v) * top[1].x + v * low[1].x, (1 - v) * top[1].y + v * low[1].y};
    const Point step{(right.x - left.x) / static_cast<double>(size), (right.y - left.y) / static_cast<double>(size)};
    return {left, step, static_cast<double>(c - i * size), (i + 1) * size - c};
  }
  Point at(std::int64_t c, std::int64_t r) const { return run(c, r).at(0); }
};

// The patches under a window, on the lattice of multiples of kPatch output cells, so that a cell has the same
// coordinates in every window.
class PatchField {
 public:
  PatchField(const SourceCells& cells, const Window& w)
      : col0_(floor_div(w.col)),
        row0_(floor_div(w.row)),
        across_(floor_div(w.col + w.cols - 1) - col0_ + 1),
        down_(floor_div(w.row + w.rows - 1) - row0_ + 1) {
    // Corners of the patches, and the middles of their edges and of themselves to check them by.
    const std::int64_t across = 2 * across_ + 1;
    const std::vector<Point> points = lattice(cells, col0_ * kPatch, row0_ * kPatch, kPatch / 2, across, 2 * down_ + 1);
    patches_.resize(static_cast<std::size_t>(across_ * down_));
    for (std::int64_t pr = 0; pr < down_; ++pr)
      for (std::int64_t pc = 0; pc < across_; ++pc) {
        std::vector<Point> nine;
        for (std::int64_t j = 0; j < 3; ++j)
          for (std::int64_t i = 0; i < 3; ++i)
            nine.push_back(points[static_cast<std::size_t>((2 * pr + j) * across + 2 * pc + i)]);
        patches_[static_cast<std::size_t>(pr * across_ + pc)] =
            patch_of(cells, col0_ + pc, row0_ + pr, std::move(nine));
      }
  }

  const Patch& patch(std::int64_t col, std::int64_t row) const {
    return patches_[static_cast<std::size_t>((floor_div(row) - row0_) * across_ + floor_div(col) - col0_)];
  }
  const std::vector<Patch>& all() const { return patches_; }
  static std::int64_t floor_div(std::int64_t v) { return v >= 0 ? v / kPatch : -((-v + kPatch - 1) / kPatch); }

 private:
  static std::vector<Point> lattice(const SourceCells& cells, std::int64_t col, std::int64_t row, std::int64_t step,
                                    std::int64_t across, std::int64_t down) {
    std::vector<Point> points;
    points.reserve(static_cast<std::size_t>(across * down));
    for (std::int64_t r = 0; r < down; ++r)
      for (std::int64_t c = 0; c < across; ++c)
        points.push_back({static_cast<double>(col + c * step), static_cast<double>(row + r * step)});
    cells.exact(points);
    return points;
  }

  // True when every second of the points tells where the others lie; then all of them together tell it four times
  // better.
  static bool suffices(const std::vector<Point>& points, std::int64_t parts) {
    const std::int64_t n = 2 * parts + 1;
    const auto at = [&](std::int64_t i, std::int64_t j) { return points[static_cast<std::size_t>(j * n + i)]; };
    for (std::int64_t j = 0; j < n; ++j)
      for (std::int64_t i = 0; i < n; ++i) {
        const std::int64_t i0 = i & ~std::int64_t{1}, i1 = (i + 1) & ~std::int64_t{1}, j0 = j & ~std::int64_t{1},
                           j1 = (j + 1) & ~std::int64_t{1};
        const Point p = at(i, j), a = at(i0, j0), b = at(i1, j0), c = at(i0, j1), d = at(i1, j1);
        const double off =
            std::max(std::abs(p.x - (a.x + b.x + c.x + d.x) / 4), std::abs(p.y - (a.y + b.y + c.y + d.y) / 4));
        if (!(off <= kTransformTolerance)) return false;
      }
    return true;
  }

  static Patch patch_of(const SourceCells& cells, std::int64_t pc, std::int64_t pr, std::vector<Point> points) {
    Patch p;
    constexpr std::int64_t kMostParts = 8;
    for (std::int64_t parts = 1;; parts *= 2) {
      if (suffices(points, parts)) {
        p.parts = 2 * parts;
        p.nodes = std::move(points);
        return p;
      }
      if (parts == kMostParts) break;
      const std::int64_t finer = 4 * parts;  // half-intervals of the next try
      points = lattice(cells, pc * kPatch, pr * kPatch, kPatch / finer, finer + 1, finer + 1);
    }
    p.exact = true;
    p.parts = kPatch;
    p.nodes = lattice(cells, pc * kPatch, pr * kPatch, 1, kPatch, kPatch);
    return p;
  }

  std::int64_t col0_, row0_, across_, down_;
  std::vector<Patch> patches_;
};

// How many source cells wide and high one output cell is, from the patch's own points.
Point footprint(const Patch& p) {
  const std::int64_t across = p.exact ? kPatch : p.parts + 1;
  const double n = p.exact ? 1 : static_cast<double>(kPatch / p.parts);
  double x = 0, y = 0;
  for (std::int64_t j = 0; j + 1 < across; ++j)
    for (std::int64_t i = p.exact ? j % 3 : 0; i + 1 < across; i += p.exact ? 3 : 1) {
      const auto k = static_cast<std::size_t>(j * across + i);
      const Point a = p.nodes[k], b = p.nodes[k + 1], c = p.nodes[k + static_cast<std::size_t>(across)];
      if (std::isnan(a.x + b.x + c.x)) continue;
      x = std::max(x, (std::abs(b.x - a.x) + std::abs(c.x - a.x)) / n);
      y = std::max(y, (std::abs(b.y - a.y) + std::abs(c.y - a.y)) / n);
    }
  return {x, y};
}

// ---------------------------------------------------------------------------------------------------------- kernels

using Four = float __attribute__((vector_size(16)));

inline Four load_four(const float* p) {
  Four v;
  std::memcpy(&v, p, sizeof v);
  return v;
}

// Keys' weights (a = -1/2) of the four samples around many places, the places `t` beyond the second sample.
struct CubicWeights {
  float w[4][kRun];
  void set(const float* t) {
    for (std::int64_t k = 0; k < kRun; ++k) {
      const float x = t[k];
      w[0][k] = ((-0.5F * x + 1.0F) * x - 0.5F) * x;
      w[1][k] = (1.5F * x - 2.5F) * x * x + 1.0F;
      w[2][k] = ((-1.5F * x + 2.0F) * x + 0.5F) * x;
      w[3][k] = (0.5F * x - 0.5F) * x * x;
    }
  }
};

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
    Four columns[4], near;
    for (std::int64_t j = 0; j < 4; ++j) {
      const float* p = block + (iy[k + j] - 1) * cols + ix[k + j] - 1;
      const float z = p[cols + 1];
      near[j] = z;
      columns[j] = ((load_four(p) - z) * wy.w[0][k + j] + (load_four(p + cols) - z) * wy.w[1][k + j]) +
                   ((load_four(p + 2 * cols) - z) * wy.w[2][k + j] + (load_four(p + 3 * cols) - z) * wy.w[3][k + j]);
    }
    // Four cells' sums of columns, turned so that a lane is a cell.
    const Four a = __builtin_shufflevector(columns[0], columns[1], 0, 4, 1, 5),
               b = __builtin_shufflevector(columns[0], columns[1], 2, 6, 3, 7),
               c = __builtin_shufflevector(columns[2], columns[3], 0, 4, 1, 5),
               d = __builtin_shufflevector(columns[2], columns[3], 2, 6, 3, 7);
    const Four c0 = __builtin_shufflevector(a, c, 0, 1, 4, 5), c1 = __builtin_shufflevector(a, c, 2, 3, 6, 7),
               c2 = __builtin_shufflevector(b, d, 0, 1, 4, 5), c3 = __builtin_shufflevector(b, d, 2, 3, 6, 7);
    const Four value = near + ((c0 * load_four(wx.w[0] + k) + c1 * load_four(wx.w[1] + k)) +
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
  explicit Sampler(const Block& block) : block_(block), w_(block.window()) {}

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

  // Weights of the four cells around; voids are left out and the rest scaled up.
  float bilinear(Point p) const {
    if (std::isnan(nearest(p))) return kVoid;
    const double x = p.x - 0.5, y = p.y - 0.5, fx = std::floor(x), fy = std::floor(y), u = x - fx, v = y - fy;
    const auto c = static_cast<std::int64_t>(fx), r = static_cast<std::int64_t>(fy);
    double sum = 0, weight = 0;
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 2; ++i) {
        const float z = cell(c + i, r + j);
        const double w = (i ? u : 1 - u) * (j ? v : 1 - v);
        if (std::isnan(z)) continue;
        sum += w * static_cast<double>(z);
        weight += w;
      }
    return static_cast<float>(sum / weight);
  }

  // Area-weighted mean over a box of `size` source cells; a void when less than half of it has values.
  float mean(Point p, Point size) const {
    const double hx = std::max(size.x, 1.0) / 2, hy = std::max(size.y, 1.0) / 2;
    const double x0 = p.x - hx, x1 = p.x + hx, y0 = p.y - hy, y1 = p.y + hy;
    double sum = 0, weight = 0;
    for (auto r = static_cast<std::int64_t>(std::floor(y0)); static_cast<double>(r) < y1; ++r) {
      const double wy = std::min(y1, static_cast<double>(r + 1)) - std::max(y0, static_cast<double>(r));
      for (auto c = static_cast<std::int64_t>(std::floor(x0)); static_cast<double>(c) < x1; ++c) {
        const float z = cell(c, r);
        if (std::isnan(z)) continue;
        const double w = wy * (std::min(x1, static_cast<double>(c + 1)) - std::max(x0, static_cast<double>(c)));
        sum += w * static_cast<double>(z);
        weight += w;
      }
    }
    return weight >= 2 * hx * hy * 0.499 ? static_cast<float>(sum / weight) : kVoid;
  }

 private:
  const Block& block_;
  Window w_;
};

class WarpSource final : public GridSource {
 public:
  WarpSource(Grid input, GridInfo info, Resampling method)
      : input_(std::move(input)), info_(std::move(info)), method_(method), cells_(input_.frame(), info_.frame) {}
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const PatchField field(cells_, out.window);
    Window need = source_window(field, out.window).intersected(input_.frame().window());
    if (need.cells() > kMostSourceCells && out.window.cells() > 1) return read_halves(out);
    if (need.cells() > kMostSourceCellsForOne)
      throw Error(ErrorCode::TooLarge, fmt::format("one new cell covers {} cells of the source", need.cells()),
                  info_.name, "go there in two steps, or take a smaller cell");
    if (need.empty()) need = {0, 0, 1, 1};
    const Block block = input_.read(need, out.origin ? Planes::ValuesAndOrigin : Planes::Values);
    fill(out, field, Sampler(block));
  }

 private:
  void read_halves(const BlockView& out) const {
    Window a = out.window, b = out.window;
    if (a.cols >= a.rows) {
      a.cols /= 2;
      b.col += a.cols;
      b.cols -= a.cols;
    } else {
      a.rows /= 2;
      b.row += a.rows;
      b.rows -= a.rows;
    }
    read(out.part(a));
    read(out.part(b));
  }

  Window source_window(const PatchField& field, const Window& w) const {
    Bounds box;
    double reach = 2;
    // Along the rim of the window suffices for a continuous map; patches that are exact may hide a fold, so take all.
    auto take = [&](std::int64_t c, std::int64_t r) {
      const Patch& p = field.patch(c, r);
      const Point q = p.at(c - PatchField::floor_div(c) * kPatch, r - PatchField::floor_div(r) * kPatch);
      if (!std::isnan(q.x)) box.include(q);
    };
    bool all = false;
    for (const Patch& p : field.all()) {
      all = all || p.parts > 2;
      if (method_ == Resampling::Mean) {
        const Point f = footprint(p);
        reach = std::max({reach, f.x, f.y});
      }
    }
    for (std::int64_t r = w.row; r < w.row + w.rows; ++r)
      for (std::int64_t c = w.col; c < w.col + w.cols;
           c += all || r == w.row || r == w.row + w.rows - 1 || w.cols == 1 ? 1 : w.cols - 1)
        take(c, r);
    if (box.empty()) return {};
    const double limit = 4e9;
    auto whole = [&](double v) { return static_cast<std::int64_t>(std::floor(std::clamp(v, -limit, limit))); };
    const auto margin = static_cast<std::int64_t>(std::ceil(reach)) + 1;
    return Window{whole(box.west), whole(box.south), whole(box.east) - whole(box.west) + 1,
                  whole(box.north) - whole(box.south) + 1}
        .grown(margin);
  }

  void fill(const BlockView& out, const PatchField& field, const Sampler& sampler) const {
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const std::int64_t row = w.row + r, patch_row = row - PatchField::floor_div(row) * kPatch;
      std::int64_t c = 0;
      while (c < w.cols) {
        const std::int64_t col = w.col + c, first = PatchField::floor_div(col) * kPatch;
        const std::int64_t end = std::min(w.cols, first + kPatch - w.col);
        const Patch& patch = field.patch(col, row);
        run(out, r, c, end, col - first, patch_row, patch, sampler);
        c = end;
      }
    }
  }

  void run(const BlockView& out, std::int64_t r, std::int64_t c, std::int64_t end, std::int64_t patch_col,
           std::int64_t patch_row, const Patch& patch, const Sampler& sampler) const {
    const Point size = method_ == Resampling::Mean ? footprint(patch) : Point{};
    while (c < end) {
      const Run cells = patch.run(patch_col, patch_row);
      const std::int64_t n = std::min(cells.cells, end - c);
      float* to = out.row(r) + c;
      if (method_ == Resampling::Cubic)
        sampler.cubic(cells, n, to);
      else
        for (std::int64_t k = 0; k < n; ++k) to[k] = one(cells.at(k), size, sampler);
      if (out.origin)
        for (std::int64_t k = 0; k < n; ++k)
          out.origin_row(r)[c + k] = std::isnan(to[k]) ? 0 : origin_at(sampler, cells.at(k));
      c += n;
      patch_col += n;
    }
  }
  float one(Point p, Point size, const Sampler& sampler) const {
    if (far_away(p)) return kVoid;
    if (method_ == Resampling::Nearest) return sampler.nearest(p);
    return method_ == Resampling::Bilinear ? sampler.bilinear(p) : sampler.mean(p, size);
  }

  static Origin origin_at(const Sampler& sampler, Point p) {
    const auto c = static_cast<std::int64_t>(std::floor(p.x)), r = static_cast<std::int64_t>(std::floor(p.y));
    // A mean may rest on neighbours of a void: the nearest of them speaks for it.
    for (std::int64_t reach = 0; reach < 3; ++reach)
      for (std::int64_t j = -reach; j <= reach; ++j)
        for (std::int64_t i = -reach; i <= reach; ++i)
          if (const Origin o = sampler.origin(c + i, r + j)) return resampled(o);
    return origin_code(1, How::Resampled);
  }

  Grid input_;
  GridInfo info_;
  Resampling method_;
  SourceCells cells_;
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
  if (kind == QuantityKind::Code || kind == QuantityKind::Aspect) return Resampling::Nearest;
  const GroundSpacing a = ground_spacing(grid.frame()), b = ground_spacing(to);
  const bool much_larger = b.x / a.x > kMeanFrom || b.y / a.y > kMeanFrom;
  return much_larger ? Resampling::Mean : Resampling::Cubic;
}

Grid reproject(const Grid& grid, const Frame& to, Resampling method) {
  if (!grid.frame().crs() || !to.crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so nobody knows where it lies",
                grid.info().name, "tell it with --crs");
  const Resampling used = resolved(method, grid, to);
  GridInfo info = grid.info();
  info.frame = to;
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
  return Grid(std::make_shared<WarpSource>(grid, std::move(info), used));
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

Frame frame_for(const Frame& source, const Crs& crs, const FrameOptions& options) {
  if (!source.crs() || !crs)
    throw Error(ErrorCode::Refused, "a coordinate reference system is missing", "frame", "tell it with --crs");
  const Bounds box =
      options.area ? options.area->in(crs).bounds() : transformed(source.bounds(), Transform(source.crs(), crs));
  if (box.empty())
    throw Error(ErrorCode::BadArgument, fmt::format("no part of it can be shown in {}", crs.label()), "frame",
                "choose a system that is made for this place");
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
  return Frame::snapped(crs, box, cell);
}

void exact_source_cells(const Frame& source, const Frame& to, std::span<Point> cells) {
  SourceCells(source, to).exact(cells);
}

}  // namespace katoptra
