// Means and deviations slide: a row of column sums takes the row below in and lets the row above go, and the window's
// sum does the same with columns. That loses nothing, for all of it is whole numbers: what a cell gets does not depend
// on where the sliding began, so blocks of any size agree to the bit.
#include "katoptra/terrain/ruggedness.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <vector>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"
#include "fixed_heights.hpp"
#include "gradients.hpp"
#include "product_info.hpp"
#include "quadric.hpp"
#include "words.hpp"

namespace katoptra {
namespace {

constexpr double kDirectionSteps = 1099511627776.0;  // 2^40, of a unit vector

// ---- Riley, range

void riley_row(const Block& in, std::int64_t r, std::int64_t cols, float* out) {
  const float *above = in.row(r) + 1, *here = in.row(r + 1) + 1, *below = in.row(r + 2) + 1;
  for (std::int64_t c = 0; c < cols; ++c) {
    const float centre = here[c];
    const Nine n = completed(above + c, here + c, below + c);
    float sum = 0;
    for (const auto& row : n.z)
      for (const float z : row) sum += (z - centre) * (z - centre);
    out[c] = std::sqrt(sum);
  }
}

// Voids take no part: they lose every comparison.
KATOPTRA_CLONES void widen(const float* __restrict z, std::int64_t n, float* __restrict low, float* __restrict high) {
  for (std::int64_t c = 0; c < n; ++c) {
    low[c] = z[c] < low[c] ? z[c] : low[c];
    high[c] = z[c] > high[c] ? z[c] : high[c];
  }
}

KATOPTRA_CLONES void widen_both(const float* __restrict lows, const float* __restrict highs, std::int64_t n,
                                float* __restrict low, float* __restrict high) {
  for (std::int64_t c = 0; c < n; ++c) {
    low[c] = lows[c] < low[c] ? lows[c] : low[c];
    high[c] = highs[c] > high[c] ? highs[c] : high[c];
  }
}

void range_row(const Block& in, std::int64_t r, std::int64_t m, std::int64_t cols, float* out) {
  const auto wide = static_cast<std::size_t>(cols + 2 * m), n = static_cast<std::size_t>(cols);
  constexpr float kFar = std::numeric_limits<float>::infinity();
  std::vector<float> lows(wide, kFar), highs(wide, -kFar), low(n, kFar), high(n, -kFar);
  for (std::int64_t j = 0; j <= 2 * m; ++j) widen(in.row(r + j), cols + 2 * m, lows.data(), highs.data());
  for (std::int64_t i = 0; i <= 2 * m; ++i)
    widen_both(lows.data() + i, highs.data() + i, cols, low.data(), high.data());
  const float* here = in.row(r + m) + m;
  for (std::int64_t c = 0; c < cols; ++c) {
    const auto i = static_cast<std::size_t>(c);
    out[c] = std::isnan(here[c]) ? kVoid : high[i] - low[i];
  }
}

// ---- sums that slide

// What is summed of the cells of a row: up to three whole numbers and whether the cell is there.
struct SummedRow {
  std::array<std::vector<std::int64_t>, 3> parts;
  std::vector<std::int32_t> there;
};

class SlidingSums {
 public:
  // `parts`: numbers a cell; `squares`: of the first of them, too.
  SlidingSums(std::size_t wide, std::size_t window, int parts, bool squares)
      : ring_(window), parts_(static_cast<std::size_t>(parts)), column_there_(wide) {
    for (SummedRow& r : ring_) {
      for (std::size_t k = 0; k < parts_; ++k) r.parts[k].resize(wide);
      r.there.resize(wide);
    }
    for (std::size_t k = 0; k < parts_; ++k) columns_[k].resize(wide);
    if (squares) column_squares_.resize(wide);
  }

  // The oldest row goes; its place is filled by the caller and then taken in.
  SummedRow& next() {
    SummedRow& r = ring_[at_];
    if (rows_ == ring_.size()) add(r, -1);
    return r;
  }
  void take() {
    add(ring_[at_], 1);
    at_ = (at_ + 1) % ring_.size();
    rows_ = std::min(rows_ + 1, ring_.size());
  }

  struct Window {
    std::array<std::int64_t, 3> sums{};
    Int128 squares = 0;
    std::int64_t there = 0;
  };
  // Calls body(c, sums) for the windows of a row, in order.
  template <class Body>
  void each_window(const Body& body) const {
    Window w;
    const std::size_t width = ring_.size(), wide = column_there_.size();
    for (std::size_t c = 0; c < wide; ++c) {
      slide(w, c, 1);
      if (c + 1 < width) continue;
      body(c + 1 - width, w);
      slide(w, c + 1 - width, -1);
    }
  }

 private:
  void add(const SummedRow& r, int sign) {
    for (std::size_t k = 0; k < parts_; ++k)
      for (std::size_t c = 0; c < r.there.size(); ++c) columns_[k][c] += sign * r.parts[k][c];
    for (std::size_t c = 0; c < r.there.size(); ++c) column_there_[c] += sign * r.there[c];
    for (std::size_t c = 0; c < column_squares_.size(); ++c) {
      const Int128 v = r.parts[0][c];
      column_squares_[c] += sign * (v * v);
    }
  }
  void slide(Window& w, std::size_t c, int sign) const {
    for (std::size_t k = 0; k < parts_; ++k) w.sums[k] += sign * columns_[k][c];
    w.there += sign * column_there_[c];
    if (!column_squares_.empty()) w.squares += sign * column_squares_[c];
  }

  std::vector<SummedRow> ring_;
  std::size_t parts_, at_ = 0, rows_ = 0;
  std::array<std::vector<std::int64_t>, 3> columns_;
  std::vector<std::int32_t> column_there_;
  std::vector<Int128> column_squares_;
};

class RuggednessSource final : public GridSource {
 public:
  RuggednessSource(Grid input, GridInfo info, RuggednessKind kind, int window)
      : input_(std::move(input)), info_(std::move(info)), ruler_(info_.frame.crs()), kind_(kind), m_(window / 2) {}
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const std::int64_t margin = kind_ == RuggednessKind::Vector ? m_ + 1 : m_;
    const Block in = input_.read(w.grown(margin), out.planes());
    switch (kind_) {
      case RuggednessKind::Riley:
        for (std::int64_t r = 0; r < w.rows; ++r) riley_row(in, r, w.cols, out.row(r));
        break;
      case RuggednessKind::Range:
        for (std::int64_t r = 0; r < w.rows; ++r) range_row(in, r, m_, w.cols, out.row(r));
        break;
      case RuggednessKind::Deviation:
        deviations(in, out);
        break;
      case RuggednessKind::Vector:
        vectors(in, out);
        break;
    }
    for (std::int64_t r = 0; out.origin && r < w.rows; ++r)
      std::copy_n(in.origin_row(r + margin) + margin, w.cols, out.origin_row(r));
  }

 private:
  void deviations(const Block& in, const BlockView& out) const {
    const std::int64_t wide = in.window().cols;
    SlidingSums sums(static_cast<std::size_t>(wide), static_cast<std::size_t>(2 * m_ + 1), 1, true);
    for (std::int64_t r = 0; r < in.window().rows; ++r) {
      SummedRow& row = sums.next();
      const float* z = in.row(r);
      for (std::int64_t c = 0; c < wide; ++c) {
        const auto i = static_cast<std::size_t>(c);
        row.there[i] = std::isnan(z[c]) ? 0 : 1;
        row.parts[0][i] = row.there[i] ? steps_of(z[c], info_) : 0;
      }
      sums.take();
      if (r < 2 * m_) continue;
      float* to = out.row(r - 2 * m_);
      const float* here = in.row(r - m_) + m_;
      sums.each_window([&](std::size_t c, const SlidingSums::Window& w) {
        const Int128 n = w.there, spread = n * w.squares - static_cast<Int128>(w.sums[0]) * w.sums[0];
        to[c] = std::isnan(here[c]) ? kVoid
                                    : static_cast<float>(std::sqrt(static_cast<double>(spread)) /
                                                         (kHeightSteps * static_cast<double>(w.there)));
      });
    }
  }

  void vectors(const Block& in, const BlockView& out) const {
    const Window inner = out.window.grown(m_);
    const GradientField field(info_.frame, ruler_, scale_step_, metres_per(input_.quantity().unit), false, inner);
    const auto wide = static_cast<std::size_t>(inner.cols);
    std::vector<float> p(wide), q(wide);
    SlidingSums sums(wide, static_cast<std::size_t>(2 * m_ + 1), 3, false);
    for (std::int64_t r = 0; r < inner.rows; ++r) {
      field.row(in, r, p.data(), q.data());
      SummedRow& row = sums.next();
      for (std::size_t c = 0; c < wide; ++c) {
        const double x = static_cast<double>(p[c]), y = static_cast<double>(q[c]),
                     up = 1 / std::sqrt(1 + x * x + y * y);
        const bool there = !std::isnan(up);
        row.there[c] = there ? 1 : 0;
        row.parts[0][c] = there ? std::llround(kDirectionSteps * x * up) : 0;
        row.parts[1][c] = there ? std::llround(kDirectionSteps * y * up) : 0;
        row.parts[2][c] = there ? std::llround(kDirectionSteps * up) : 0;
      }
      sums.take();
      if (r < 2 * m_) continue;
      float* to = out.row(r - 2 * m_);
      const float* here = in.row(r - m_ + 1) + m_ + 1;
      sums.each_window([&](std::size_t c, const SlidingSums::Window& w) {
        const auto x = static_cast<double>(w.sums[0]), y = static_cast<double>(w.sums[1]),
                   up = static_cast<double>(w.sums[2]);
        const double mean = std::sqrt(x * x + y * y + up * up) / (kDirectionSteps * static_cast<double>(w.there));
        to[c] = std::isnan(here[c]) ? kVoid : static_cast<float>(std::max(0.0, 1 - mean));
      });
    }
  }

  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  std::int64_t scale_step_ = scale_step(info_.frame);
  RuggednessKind kind_;
  std::int64_t m_;
};

constexpr const char* kKindNames[] = {"riley", "vector", "range", "deviation"};

}  // namespace

RuggednessKind parse_ruggedness_kind(std::string_view text) {
  return value_of<RuggednessKind>(kKindNames, text, "is no kind of ruggedness");
}

Grid ruggedness(const Grid& surface, RuggednessKind kind, int window) {
  require_window(window, "ruggedness");
  if (kind == RuggednessKind::Riley && window != 3)
    throw Error(ErrorCode::BadArgument, fmt::format("riley is a measure of 3 x 3 cells, not of {}", window),
                "ruggedness", "leave the window out, or take range, deviation or vector");
  const char* unit = kind == RuggednessKind::Vector ? "" : symbol(surface.quantity().unit);
  return Grid(std::make_shared<RuggednessSource>(
      surface, product_info(surface, QuantityKind::Ruggedness, unit, SampleType::Float32), kind, window));
}

}  // namespace katoptra
