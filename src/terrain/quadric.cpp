// The fit is a sum for each of six terms, and each sum is one over the rows of the window followed by one over its
// columns: a cell costs as many steps as the window is wide, not as it has cells. Odd terms are sums of differences
// between cells across from each other, even ones of what two such cells rise above the middle, so that level ground
// gives exact zeros and nothing is lost of heights far above zero.
// Where cells are missing the terms no longer keep apart; there the normal equations are solved, from sums that are
// separable as well. They take the terms in the order level, slopes, curvatures, twist; what the cells that are there
// do not tell beside the terms before it is zero: along a single row the ground bends one way only.
#include "quadric.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <optional>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/curvature.hpp"

#include "base/clones.hpp"
#include "derivative_errors.hpp"
#include "scale_field.hpp"

namespace katoptra {
namespace {

// QuadricSums over the rows of the window, a number a column.
struct ColumnSums {
  std::vector<double> z0, z1, z2;          // of z, z y, z (y² - mean y²)
  std::vector<double> n0, n1, n2, n3, n4;  // of 1, y, y² ... over the cells that are there
  explicit ColumnSums(std::size_t n) : z0(n), z1(n), z2(n), n0(n), n1(n), n2(n), n3(n), n4(n) {}
};

KATOPTRA_CLONES void add_middle(const float* __restrict z, std::int64_t n, double* __restrict z0) {
  for (std::int64_t c = 0; c < n; ++c) z0[c] = static_cast<double>(z[c]);
}

// The rows `y` cells above and below the middle one.
KATOPTRA_CLONES void add_rows(const float* __restrict above, const float* __restrict here,
                              const float* __restrict below, double y, double even, std::int64_t n,
                              double* __restrict z0, double* __restrict z1, double* __restrict z2) {
  for (std::int64_t c = 0; c < n; ++c) {
    const double a = static_cast<double>(above[c]), b = static_cast<double>(below[c]), m = static_cast<double>(here[c]);
    z0[c] += a + b;
    z1[c] += y * (a - b);
    z2[c] += even * ((a - m) + (b - m));
  }
}

struct QuadricSums {
  std::vector<double> x, y, xx, xy, yy;
  explicit QuadricSums(std::size_t n) : x(n), y(n), xx(n), xy(n), yy(n) {}
};

// The sums of columns `x` cells to the left and to the right of each cell; all arrays begin at the cell.
KATOPTRA_CLONES void add_columns(const double* __restrict z0, const double* __restrict z1, const double* __restrict z2,
                                 std::int64_t x, double even, std::int64_t n, double* __restrict sx,
                                 double* __restrict sy, double* __restrict sxx, double* __restrict sxy,
                                 double* __restrict syy) {
  const auto far = static_cast<double>(x);
  for (std::int64_t c = 0; c < n; ++c) {
    const double west = z0[c - x], east = z0[c + x], middle = z0[c];
    sx[c] += far * (east - west);
    sy[c] += z1[c - x] + z1[c + x];
    sxx[c] += even * ((east - middle) + (west - middle));
    sxy[c] += far * (z1[c + x] - z1[c - x]);
    syy[c] += z2[c - x] + z2[c + x];
  }
}

// Derivatives of a row, as they are handed on.
struct DerivativeRows {
  std::vector<float> x, y, xx, xy, yy;
  // Where it is asked for: how much larger variances are of slopes and of bends than those of a whole window.
  std::vector<std::array<float, 2>> growth;
  explicit DerivativeRows(std::size_t n) : x(n), y(n), xx(n), xy(n), yy(n) {}
  Derivatives view() const { return {x.data(), y.data(), xx.data(), xy.data(), yy.data()}; }
};

// What turns sums into derivatives: in cells by these factors, on the ground by the distances of a ScaleRun.
struct Factors {
  double slope = 1, bend = 1, twist = 1, vertical = 1;
};

KATOPTRA_CLONES void to_ground(ScaleRun run, std::int32_t n, Factors f, const double* __restrict sx,
                               const double* __restrict sy, const double* __restrict sxx, const double* __restrict sxy,
                               const double* __restrict syy, float* __restrict x, float* __restrict y,
                               float* __restrict xx, float* __restrict xy, float* __restrict yy) {
  for (std::int32_t c = 0; c < n; ++c) {
    const double kx = 8 * static_cast<double>(run.x.at(run.from + c)),
                 ky = 8 * static_cast<double>(run.y.at(run.from + c));
    x[c] = static_cast<float>(f.slope * sx[c] * kx);
    y[c] = static_cast<float>(f.slope * sy[c] * ky);
    xx[c] = static_cast<float>(f.bend * sxx[c] * kx * kx / f.vertical);
    xy[c] = static_cast<float>(f.twist * sxy[c] * kx * ky / f.vertical);
    yy[c] = static_cast<float>(f.bend * syy[c] * ky * ky / f.vertical);
  }
}

// All of it for a window of 3, from differences of neighbours, which floats hold as well as the heights.
KATOPTRA_CLONES void of_nine(const float* __restrict above, const float* __restrict here, const float* __restrict below,
                             ScaleRun run, std::int32_t n, float per_vertical, float* __restrict x, float* __restrict y,
                             float* __restrict xx, float* __restrict xy, float* __restrict yy) {
  constexpr float kThird = 1.0f / 3;
  for (std::int32_t c = 0; c < n; ++c) {
    const float nw = above[c - 1], no = above[c], ne = above[c + 1], w = here[c - 1], m = here[c], e = here[c + 1],
                sw = below[c - 1], so = below[c], se = below[c + 1];
    const float kx = 8 * run.x.at(run.from + c), ky = 8 * run.y.at(run.from + c);
    const float bend_x = kThird * per_vertical * kx * kx, bend_y = kThird * per_vertical * ky * ky;
    x[c] = ((ne - nw) + (e - w) + (se - sw)) * (0.5f * kThird * kx);
    y[c] = ((nw - sw) + (no - so) + (ne - se)) * (0.5f * kThird * ky);
    xx[c] = (((nw - no) + (ne - no)) + ((w - m) + (e - m)) + ((sw - so) + (se - so))) * bend_x;
    yy[c] = (((nw - w) + (sw - w)) + ((no - m) + (so - m)) + ((ne - e) + (se - e))) * bend_y;
    xy[c] = ((ne - nw) - (se - sw)) * (0.25f * per_vertical * kx * ky);
  }
}

KATOPTRA_CLONES std::int32_t count_voids(const float* v, std::int64_t n) {
  std::int32_t voids = 0;
  for (std::int64_t c = 0; c < n; ++c) voids += v[c] != v[c] ? 1 : 0;
  return voids;
}

// Marks voids and makes them zeros.
KATOPTRA_CLONES void clear_voids(float* __restrict z, std::int64_t n, std::uint8_t* __restrict gone) {
  for (std::int64_t c = 0; c < n; ++c) {
    gone[c] = z[c] != z[c] ? 1 : 0;
    z[c] = z[c] != z[c] ? 0.0f : z[c];
  }
}

KATOPTRA_CLONES void count_gone(const std::uint8_t* __restrict gone, std::int64_t n, std::int16_t sign,
                                std::int16_t* __restrict count) {
  for (std::int64_t c = 0; c < n; ++c) count[c] = static_cast<std::int16_t>(count[c] + sign * gone[c]);
}

KATOPTRA_CLONES bool all_zero(const std::int16_t* v, std::int64_t n) {
  std::int16_t any = 0;
  for (std::int64_t c = 0; c < n; ++c) any = static_cast<std::int16_t>(any | v[c]);
  return any == 0;
}

// Which cells of a block are voids, and how many a column has in the rows of a window that goes down.
class Voids {
 public:
  // Voids of the block become zeros.
  explicit Voids(Block& in) : cols_(static_cast<std::size_t>(in.window().cols)) {
    const Window& w = in.window();
    for (std::int64_t r = 0; r < w.rows; ++r) {
      float* row = in.row(r);
      if (count_voids(row, w.cols) == 0) continue;
      if (gone_.empty()) gone_.resize(cols_ * static_cast<std::size_t>(w.rows));
      clear_voids(row, w.cols, gone_.data() + static_cast<std::size_t>(r) * cols_);
    }
    in_window_.resize(cols_);
  }
  bool any() const { return !gone_.empty(); }
  bool at(std::int64_t row, std::size_t col) const { return gone_[static_cast<std::size_t>(row) * cols_ + col] != 0; }
  void enter(std::int64_t row) { add(row, 1); }
  void leave(std::int64_t row) { add(row, -1); }
  // The first column from `col` on that has one in the window; the number of columns where none has.
  std::size_t column_from(std::size_t col) const {
    const std::int16_t* v = in_window_.data();
    constexpr std::size_t kStep = 128;
    while (col + kStep <= cols_ && all_zero(v + col, kStep)) col += kStep;
    while (col < cols_ && v[col] == 0) ++col;
    return col;
  }

 private:
  void add(std::int64_t row, std::int16_t sign) {
    count_gone(gone_.data() + static_cast<std::size_t>(row) * cols_, static_cast<std::int64_t>(cols_), sign,
               in_window_.data());
  }

  std::size_t cols_;
  std::vector<std::uint8_t> gone_;
  std::vector<std::int16_t> in_window_;  // at most kWidestWindow
};

constexpr int kTerms = 6;  // 1, x, y, x², y², xy
constexpr std::array<int, kTerms> kPowerX = {0, 1, 0, 2, 0, 1}, kPowerY = {0, 0, 1, 0, 2, 1};

// Solves the normal equations in place, terms in their order; those that are not determined are zero.
std::array<double, kTerms> solved(std::array<std::array<double, kTerms>, kTerms> a, std::array<double, kTerms> b) {
  constexpr double kTold = 1e-9;  // of what the term would have alone
  std::array<bool, kTerms> used{};
  for (int k = 0; k < kTerms; ++k) {
    const double alone = a[k][k];
    double pivot = alone;
    for (int j = 0; j < k; ++j)
      if (used[j]) pivot -= a[k][j] * a[k][j] * a[j][j];
    used[k] = alone > 0 && pivot > kTold * alone;
    if (!used[k]) continue;
    a[k][k] = pivot;
    for (int i = k + 1; i < kTerms; ++i) {
      double v = a[i][k];
      for (int j = 0; j < k; ++j)
        if (used[j]) v -= a[i][j] * a[k][j] * a[j][j];
      a[i][k] = v / pivot;
    }
  }
  std::array<double, kTerms> x{};
  for (int k = 0; k < kTerms; ++k) {
    if (!used[k]) continue;
    x[k] = b[k];
    for (int j = 0; j < k; ++j)
      if (used[j]) x[k] -= a[k][j] * x[j];
  }
  for (int k = 0; k < kTerms; ++k)
    if (used[k]) x[k] /= a[k][k];
  for (int k = kTerms - 1; k >= 0; --k)
    for (int i = k + 1; i < kTerms; ++i)
      if (used[k] && used[i]) x[k] -= a[i][k] * x[i];
  return x;
}

struct Normal {
  std::array<std::array<double, kTerms>, kTerms> a{};
  std::array<double, kTerms> z{};
};

class QuadricSource final : public GridSource {
 public:
  QuadricSource(Grid input, GridInfo info, int window, DerivativeRow row, bool states_error)
      : input_(std::move(input)), info_(std::move(info)), ruler_(info_.frame.crs()), m_(window / 2), row_(row) {
    const double m = static_cast<double>(m_), width = 2 * m + 1;
    square_ = m * (m + 1) * width / 3;  // the sum of x² over a row of the window
    double even = 0;
    for (std::int64_t i = -m_; i <= m_; ++i) even += even_at(i) * even_at(i);
    factors_ = {.slope = 1 / (width * square_),
                .bend = 2 / (width * even),
                .twist = 1 / (square_ * square_),
                .vertical = metres_per(input_.quantity().unit)};
    if (states_error && input_.carries_uncertainty()) take_errors();
  }
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return errors_.has_value(); }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    Block in = input_.read(w.grown(m_), out.planes());
    Voids voids(in);
    const ScaleField scale(info_.frame, ruler_, scale_step_, factors_.vertical, w);
    const auto n = static_cast<std::size_t>(w.cols), wide = static_cast<std::size_t>(w.cols + 2 * m_);
    ColumnSums columns(wide);
    QuadricSums sums(n);
    DerivativeRows d(n);
    if (out.uncertainty) d.growth.resize(n);
    if (voids.any())
      for (std::int64_t r = 0; r < 2 * m_; ++r) voids.enter(r);
    for (std::int64_t r = 0; r < w.rows; ++r) {
      if (m_ == 1)
        fit_nine(in, r, scale, d);
      else
        fit_wide(in, r, scale, columns, sums, d);
      std::fill(d.growth.begin(), d.growth.end(), std::array{1.0f, 1.0f});
      if (voids.any()) {
        voids.enter(r + 2 * m_);
        mend(in, voids, r, scale, columns, d);
        voids.leave(r);
      }
      row_(d.view(), w.cols, out.row(r));
      if (out.origin) std::copy_n(in.origin_row(r + m_) + m_, w.cols, out.origin_row(r));
      if (out.uncertainty) state_errors(in, r, scale, d, out.row(r), out.uncertainty_row(r));
    }
  }

 private:
  // Deviations of the derivatives of a cell whose errors have deviation 1, in cells. Those of the two bends go
  // together: `bend_both` moves xx, and yy by its share; `bend_rest` moves yy alone.
  struct Errors {
    double x = 0, y = 0, xy = 0, bend_both = 0, yy_of_both = 0, bend_rest = 0;
  };
  void take_errors() {
    std::vector<double> one, step, even;
    for (std::int64_t i = -m_; i <= m_; ++i) {
      one.push_back(1);
      step.push_back(static_cast<double>(i));
      even.push_back(even_at(i));
    }
    const WindowCovariance cells(input_.info());
    const double xx = cells.of({even, one}), yy = cells.of({one, even}), both = cells.of({even, one}, {one, even});
    Errors& e = errors_.emplace();
    e.x = factors_.slope * std::sqrt(cells.of({step, one}));
    e.y = factors_.slope * std::sqrt(cells.of({one, step}));
    e.xy = factors_.twist * std::sqrt(cells.of({step, step}));
    e.bend_both = factors_.bend * std::sqrt(xx);
    e.yy_of_both = factors_.bend * both / std::sqrt(xx);
    e.bend_rest = factors_.bend * std::sqrt(std::max(0.0, yy - both * both / xx));
    info_.error_reach = reach_over_window(input_.info(), 2 * static_cast<double>(m_) + 1);
  }

  // What each derivative is moved by, for the cells of a row.
  void state_errors(const Block& in, std::int64_t r, const ScaleField& scale, const DerivativeRows& d,
                    const float* value, float* uncertainty) const {
    const std::size_t n = d.x.size();
    std::vector<double> of_cell(n), squares(n, 0.0), east(n), north(n);
    mean_squares(in, r, m_, of_cell);
    for (std::int64_t c = 0; c < std::ssize(of_cell);) {
      const ScaleRun k = scale.run(r, c);
      for (std::int32_t i = k.from; c < k.end; ++c, ++i) {
        east[static_cast<std::size_t>(c)] = 8 * static_cast<double>(k.x.at(i));
        north[static_cast<std::size_t>(c)] = 8 * static_cast<double>(k.y.at(i));
      }
    }
    const auto deviation = [&](std::size_t c, bool bend) {
      return std::sqrt(of_cell[c] * static_cast<double>(d.growth[c][bend]));
    };
    DerivativeRows moved = d;
    std::vector<float> up(n), down(n);
    const auto by = [&](const auto& move) {
      for (const double side : {1.0, -1.0}) {
        for (std::size_t c = 0; c < n; ++c) move(c, side);
        row_(moved.view(), static_cast<std::int64_t>(n), side > 0 ? up.data() : down.data());
      }
      add_change(value, up.data(), down.data(), squares);
      moved = d;
    };
    const auto add = [](float of, double what) { return of + static_cast<float>(what); };
    const Errors& e = *errors_;
    const double per = 1 / factors_.vertical;
    by([&](std::size_t c, double s) { moved.x[c] = add(d.x[c], s * e.x * deviation(c, false) * east[c]); });
    by([&](std::size_t c, double s) { moved.y[c] = add(d.y[c], s * e.y * deviation(c, false) * north[c]); });
    by([&](std::size_t c, double s) {
      moved.xy[c] = add(d.xy[c], s * e.xy * deviation(c, true) * east[c] * north[c] * per);
    });
    by([&](std::size_t c, double s) {
      moved.xx[c] = add(d.xx[c], s * e.bend_both * deviation(c, true) * east[c] * east[c] * per);
      moved.yy[c] = add(d.yy[c], s * e.yy_of_both * deviation(c, true) * north[c] * north[c] * per);
    });
    by([&](std::size_t c, double s) {
      moved.yy[c] = add(d.yy[c], s * e.bend_rest * deviation(c, true) * north[c] * north[c] * per);
    });
    for (std::size_t c = 0; c < n; ++c)
      if (std::isnan(of_cell[c])) squares[c] = std::nan("");
    state_error(value, squares, uncertainty);
  }

  double even_at(std::int64_t i) const {
    return static_cast<double>(i * i) - square_ / (2 * static_cast<double>(m_) + 1);
  }

  void fit_nine(const Block& in, std::int64_t r, const ScaleField& scale, DerivativeRows& d) const {
    const float *above = in.row(r) + 1, *here = in.row(r + 1) + 1, *below = in.row(r + 2) + 1;
    const auto per_vertical = static_cast<float>(1 / factors_.vertical);
    for (std::int64_t c = 0; c < std::ssize(d.x);) {
      const ScaleRun k = scale.run(r, c);
      of_nine(above + c, here + c, below + c, k, static_cast<std::int32_t>(k.end - c), per_vertical, d.x.data() + c,
              d.y.data() + c, d.xx.data() + c, d.xy.data() + c, d.yy.data() + c);
      c = k.end;
    }
  }

  void fit_wide(const Block& in, std::int64_t r, const ScaleField& scale, ColumnSums& columns, QuadricSums& s,
                DerivativeRows& d) const {
    const std::int64_t n = std::ssize(d.x);
    sum_columns(in, r, columns);
    for (auto* v : {&s.x, &s.xx, &s.xy}) std::fill(v->begin(), v->end(), 0.0);
    std::copy_n(columns.z1.data() + m_, n, s.y.data());
    std::copy_n(columns.z2.data() + m_, n, s.yy.data());
    for (std::int64_t x = 1; x <= m_; ++x)
      add_columns(columns.z0.data() + m_, columns.z1.data() + m_, columns.z2.data() + m_, x, even_at(x), n, s.x.data(),
                  s.y.data(), s.xx.data(), s.xy.data(), s.yy.data());
    for (std::int64_t c = 0; c < n;) {
      const ScaleRun k = scale.run(r, c);
      to_ground(k, static_cast<std::int32_t>(k.end - c), factors_, s.x.data() + c, s.y.data() + c, s.xx.data() + c,
                s.xy.data() + c, s.yy.data() + c, d.x.data() + c, d.y.data() + c, d.xx.data() + c, d.xy.data() + c,
                d.yy.data() + c);
      c = k.end;
    }
  }

  void sum_columns(const Block& in, std::int64_t r, ColumnSums& s) const {
    const std::int64_t wide = in.window().cols, middle = r + m_;
    add_middle(in.row(middle), wide, s.z0.data());
    std::fill(s.z1.begin(), s.z1.end(), 0.0);
    std::fill(s.z2.begin(), s.z2.end(), 0.0);
    for (std::int64_t y = 1; y <= m_; ++y)
      add_rows(in.row(middle - y), in.row(middle), in.row(middle + y), static_cast<double>(y), even_at(y), wide,
               s.z0.data(), s.z1.data(), s.z2.data());
  }

  // The cells of row `r` that have a height while one of their window has none, run by run.
  void mend(const Block& in, const Voids& voids, std::int64_t r, const ScaleField& scale, ColumnSums& columns,
            DerivativeRows& d) const {
    const auto reach = static_cast<std::size_t>(2 * m_);
    for (std::size_t first = voids.column_from(0); first < d.x.size() + reach;) {
      std::size_t last = first, next = voids.column_from(first + 1);
      for (; next - last <= reach + 1 && next < d.x.size() + reach; next = voids.column_from(next + 1)) last = next;
      mend_run(in, voids, r, {first - std::min(first, reach), std::min(last + 1, d.x.size())}, scale, columns, d);
      first = next;
    }
  }

  struct Run {
    std::size_t first, end;
  };
  void mend_run(const Block& in, const Voids& voids, std::int64_t r, Run run, const ScaleField& scale,
                ColumnSums& columns, DerivativeRows& d) const {
    count_columns(in, voids, r, {run.first, run.end + static_cast<std::size_t>(2 * m_)}, columns);
    ScaleRun k;
    for (std::size_t c = run.first; c < run.end; ++c) {
      const auto at = static_cast<std::int64_t>(c);
      if (voids.at(r + m_, c + static_cast<std::size_t>(m_))) {
        for (auto* v : {&d.x, &d.y, &d.xx, &d.xy, &d.yy}) (*v)[c] = kVoid;
        continue;
      }
      if (at >= k.end) k = scale.run(r, at);
      const Normal normal = normal_of(columns, c, static_cast<double>(in.row(r + m_)[at + m_]));
      const auto fit = solved(normal.a, normal.z);
      if (!d.growth.empty()) d.growth[c] = growth_of(normal);
      const double xx = 2 * fit[3], yy = 2 * fit[4];
      const auto from = static_cast<std::int32_t>(k.from + (at - k.first));
      to_ground({0, 1, from, k.x, k.y}, 1, {.vertical = factors_.vertical}, &fit[1], &fit[2], &xx, &fit[5], &yy,
                &d.x[c], &d.y[c], &d.xx[c], &d.xy[c], &d.yy[c]);
    }
  }

  // Over the columns of `run`. z2 becomes the sum of z y² here: the even term about its mean serves whole windows only.
  void count_columns(const Block& in, const Voids& voids, std::int64_t r, Run run, ColumnSums& s) const {
    for (auto* v : {&s.z0, &s.z1, &s.z2, &s.n0, &s.n1, &s.n2, &s.n3, &s.n4})
      std::fill(v->begin() + static_cast<std::ptrdiff_t>(run.first), v->begin() + static_cast<std::ptrdiff_t>(run.end),
                0.0);
    for (std::int64_t j = 0; j <= 2 * m_; ++j) {
      const auto y = static_cast<double>(m_ - j);
      const float* z = in.row(r + j);
      for (std::size_t c = run.first; c < run.end; ++c) {
        if (voids.at(r + j, c)) continue;
        const auto v = static_cast<double>(z[c]);
        s.z0[c] += v;
        s.z1[c] += v * y;
        s.z2[c] += v * y * y;
        s.n0[c] += 1;
        s.n1[c] += y;
        s.n2[c] += y * y;
        s.n3[c] += y * y * y;
        s.n4[c] += y * y * y * y;
      }
    }
  }

  // Of the variances of slopes, and of bends and twist, by errors that have nothing to do with one another.
  std::array<float, 2> growth_of(const Normal& normal) const {
    const double m = static_cast<double>(m_), width = 2 * m + 1, even = 2 / (factors_.bend * width);
    const std::array<double, kTerms> whole{
        1, factors_.slope, factors_.slope, 1 / (width * even), 1 / (width * even), factors_.twist};
    std::array<float, 2> most{1, 1};
    for (std::size_t t = 1; t < kTerms; ++t) {
      std::array<double, kTerms> unit{};
      unit[t] = 1;
      float& of = most[t > 2];
      of = std::max(of, static_cast<float>(solved(normal.a, unit)[t] / whole[t]));
    }
    return most;
  }

  // The normal equations of the terms of the quadric through the cells that are there, of the window that begins at
  // column `c`.
  Normal normal_of(const ColumnSums& s, std::size_t c, double centre) const {
    // Moments of x and y to the fourth order, and of z with x and y to the second.
    std::array<std::array<double, 5>, 5> moment{};
    std::array<double, kTerms> z{};
    for (std::int64_t i = -m_; i <= m_; ++i) {
      const std::size_t at = c + static_cast<std::size_t>(i + m_);
      const auto x = static_cast<double>(i);
      const std::array<double, 5> power{1, x, x * x, x * x * x, x * x * x * x},
          n{s.n0[at], s.n1[at], s.n2[at], s.n3[at], s.n4[at]};
      const std::array<double, 3> h{s.z0[at], s.z1[at], s.z2[at]};
      for (std::size_t p = 0; p < 5; ++p)
        for (std::size_t q = 0; p + q < 5; ++q) moment[p][q] += power[p] * n[q];
      for (std::size_t t = 0; t < kTerms; ++t)
        z[t] += power[static_cast<std::size_t>(kPowerX[t])] * h[static_cast<std::size_t>(kPowerY[t])];
    }
    std::array<std::array<double, kTerms>, kTerms> a{};
    for (std::size_t t = 0; t < kTerms; ++t) {
      const auto px = static_cast<std::size_t>(kPowerX[t]), py = static_cast<std::size_t>(kPowerY[t]);
      for (std::size_t u = 0; u < kTerms; ++u)
        a[t][u] = moment[px + static_cast<std::size_t>(kPowerX[u])][py + static_cast<std::size_t>(kPowerY[u])];
      // Heights above that of the cell. What is left of level ground are roundings, not a slope.
      constexpr double kRounding = 1e-13;
      const double level = centre * moment[px][py], reach = std::pow(static_cast<double>(m_), px + py) * moment[0][0];
      z[t] = std::abs(z[t] - level) <= kRounding * std::abs(centre) * reach ? 0 : z[t] - level;
    }
    return {a, z};
  }

  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  std::int64_t scale_step_ = scale_step(info_.frame);
  std::int64_t m_;
  DerivativeRow row_;
  double square_ = 0;
  Factors factors_;
  std::optional<Errors> errors_;
};

}  // namespace

void require_window(int window, const char* where) {
  if (window < 3 || window > kWidestWindow || window % 2 == 0)
    throw Error(ErrorCode::BadArgument, fmt::format("a window of {} cells is not possible", window), where,
                fmt::format("take an odd number of cells, 3 to {}", kWidestWindow));
}

Grid quadric_product(const Grid& surface, GridInfo info, int window, DerivativeRow row, bool states_error) {
  return Grid(std::make_shared<QuadricSource>(surface, std::move(info), window, row, states_error));
}

}  // namespace katoptra
