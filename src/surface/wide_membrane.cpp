#include "wide_membrane.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <span>
#include <vector>

#include "scratch_array.hpp"

namespace katoptra {
namespace {

enum class CellIs : std::uint8_t { Nothing = 0, Unknown = 1, Known = 2 };

constexpr int kMostRounds = 80;
constexpr std::int64_t kHeld = std::int64_t{1} << 22;  // cells that are passed before they are let go of

}  // namespace

// A raster with one more cell of nothing on every side.
class WideMembrane::Level {
 public:
  Level(std::int64_t cols, std::int64_t rows, double across)
      : cols_(cols),
        rows_(rows),
        stride_(cols + 2),
        across_(across),
        x_(static_cast<std::size_t>(stride_ * (rows + 2)), HeldIn::File),
        right_(std::make_unique<ScratchArray<float>>(static_cast<std::size_t>(stride_ * (rows + 2)), HeldIn::File)),
        is_(std::make_unique<ScratchArray<CellIs>>(static_cast<std::size_t>(stride_ * (rows + 2)), HeldIn::File)) {}
  std::int64_t cols() const { return cols_; }
  std::int64_t rows() const { return rows_; }
  double* x(std::int64_t row) const { return x_.data() + (row + 1) * stride_ + 1; }
  float* right(std::int64_t row) const { return right_->data() + (row + 1) * stride_ + 1; }
  CellIs* is(std::int64_t row) const { return is_->data() + (row + 1) * stride_ + 1; }
  // Heights, to be read from the file.
  void keep_results() {
    right_.reset();
    is_.reset();
    x_.close_memory();
  }
  void read(std::int64_t col, std::int64_t row, std::span<double> out) const {
    x_.read(static_cast<std::size_t>((row + 1) * stride_ + 1 + col), out);
  }
  // Of rows [first, end).
  void let_go(std::int64_t first, std::int64_t end) const {
    if (first >= end) return;
    const auto from = static_cast<std::size_t>((first + 1) * stride_),
               to = static_cast<std::size_t>((end + 1) * stride_);
    x_.let_go(from, to);
    if (right_) right_->let_go(from, to);
    is_->let_go(from, to);
  }

  // Calls body(row) down or up, letting go of what lies behind.
  template <class Body>
  void each_row(bool down, const Body& body) const {
    pass_rows(rows_, std::max<std::int64_t>(16, kHeld / stride_), down, body,
              [this](std::int64_t first, std::int64_t end) { let_go(first, end); });
  }

  // Of the neighbours of a cell: the sum of their weights times heights, and of weights.
  struct Around {
    double sum = 0, weight = 0;
  };
  Around around(const double* x, const CellIs* is) const {
    Around a;
    const auto add = [&](std::int64_t step, double w) {
      if (is[step] == CellIs::Nothing) return;
      a.sum += w * x[step];
      a.weight += w;
    };
    add(-1, across_);
    add(1, across_);
    add(-stride_, 1);
    add(stride_, 1);
    return a;
  }

  // Every cell takes what its equation asks for, one after the other (Gauss & Seidel); the largest change.
  double sweep(bool down) const {
    double largest = 0;
    each_row(down, [&](std::int64_t row) {
      double* x = this->x(row);
      const float* b = right(row);
      const CellIs* is = this->is(row);
      for (std::int64_t i = 0; i < cols_; ++i) {
        const std::int64_t c = down ? i : cols_ - 1 - i;
        if (is[c] != CellIs::Unknown) continue;
        const Around a = around(x + c, is + c);
        if (a.weight == 0) continue;
        const double z = (a.sum + static_cast<double>(b[c])) / a.weight;
        largest = std::max(largest, std::abs(z - x[c]));
        x[c] = z;
      }
    });
    return largest;
  }

  // The level above: two by two cells are one, unknown when all that there are are.
  std::unique_ptr<Level> coarser(double across) const {
    auto up = std::make_unique<Level>((cols_ + 1) / 2, (rows_ + 1) / 2, across);
    each_row(true, [&](std::int64_t fine) {
      if (fine % 2 == 0 && fine + 1 < rows_) return;
      const std::int64_t row = fine / 2;
      const CellIs *upper = is(2 * row), *lower = is(2 * row + 1);
      CellIs* to = up->is(row);
      for (std::int64_t c = 0; c < up->cols(); ++c) {
        const CellIs four[] = {upper[2 * c], upper[2 * c + 1], lower[2 * c], lower[2 * c + 1]};
        const bool any = std::find(std::begin(four), std::end(four), CellIs::Unknown) != std::end(four),
                   known = std::find(std::begin(four), std::end(four), CellIs::Known) != std::end(four);
        to[c] = known ? CellIs::Known : any ? CellIs::Unknown : CellIs::Nothing;
        up->unknown_ += to[c] == CellIs::Unknown;
      }
    });
    return up;
  }
  std::int64_t unknown() const { return unknown_; }
  void count(std::int64_t unknown) { unknown_ = unknown; }

  // What is left of the equations, summed, is what the level above is to correct; it begins at zero.
  void hand_up(const Level& up) const {
    each_row(true, [&](std::int64_t fine) {
      float* to = up.right(fine / 2);
      if (fine % 2 == 0) {
        std::fill_n(to, up.cols(), 0.0F);
        std::fill_n(up.x(fine / 2), up.cols(), 0.0);
      }
      const double* x = this->x(fine);
      const float* b = right(fine);
      const CellIs* is = this->is(fine);
      for (std::int64_t c = 0; c < cols_; ++c) {
        if (is[c] != CellIs::Unknown) continue;
        const Around a = around(x + c, is + c);
        to[c / 2] += static_cast<float>(static_cast<double>(b[c]) + a.sum - a.weight * x[c]);
      }
    });
    up.let_go(0, up.rows_);
  }
  // Adds the corrections, bilinear between the middles of the cells above; the largest.
  double take_down(const Level& up) const {
    double largest = 0;
    each_row(true, [&](std::int64_t row) {
      double* x = this->x(row);
      const CellIs* is = this->is(row);
      const std::int64_t beside = row % 2 ? 1 : -1;
      const double *near = up.x(row / 2), *far = near + beside * up.stride_;
      const CellIs *near_is = up.is(row / 2), *far_is = near_is + beside * up.stride_;
      for (std::int64_t c = 0; c < cols_; ++c) {
        if (is[c] != CellIs::Unknown) continue;
        const std::int64_t k = c / 2, side = k + (c % 2 ? 1 : -1);
        // Beyond the edge of the grid it is as here.
        const double own = near[k], h = near_is[side] == CellIs::Nothing ? own : near[side],
                     v = far_is[k] == CellIs::Nothing ? own : far[k],
                     d = far_is[side] == CellIs::Nothing ? (near_is[side] == CellIs::Nothing ? v : h) : far[side];
        const double by = (9 * own + 3 * h + 3 * v + d) / 16;
        largest = std::max(largest, std::abs(by));
        x[c] += by;
      }
    });
    up.let_go(0, up.rows_);
    return largest;
  }

 private:
  std::int64_t cols_, rows_, stride_;
  double across_;
  ScratchArray<double> x_;
  std::unique_ptr<ScratchArray<float>> right_;
  std::unique_ptr<ScratchArray<CellIs>> is_;
  std::int64_t unknown_ = 0;
};

WideMembrane::~WideMembrane() = default;

// The void's cells, and the known ones around them (also over corners) with their heights about the mean.
void WideMembrane::mark(const VoidCells& voids, std::uint32_t region, const Grid& grid, Level& fine) {
  fine.each_row(true, [&](std::int64_t row) {
    const std::int64_t at = box_.row + row;
    if (at < 0 || at >= grid.frame().rows()) return;
    voids.for_runs(at, box_.col, box_.col + box_.cols, [&](const VoidRun& run, std::size_t) {
      if (run.region == region)
        std::fill(fine.is(row) + (run.first - box_.col), fine.is(row) + (run.last - box_.col), CellIs::Unknown);
    });
  });
  fine.count(voids.map().regions[region].cells);
  double sum = 0, known = 0;
  const std::int64_t rows = std::max<std::int64_t>(1, kHeld / box_.cols);
  for (std::int64_t first = 0; first < box_.rows; first += rows) {
    const std::int64_t n = std::min(rows, box_.rows - first);
    const Block z = grid.read({box_.col, box_.row + first, box_.cols, n});
    for (std::int64_t r = first; r < first + n; ++r)
      for (std::int64_t c = 0; c < box_.cols; ++c) {
        if (fine.is(r)[c] == CellIs::Unknown || std::isnan(z.at(c, r - first))) continue;
        bool beside = false;
        for (std::int64_t dr = -1; dr <= 1 && !beside; ++dr)
          for (std::int64_t dc = -1; dc <= 1; ++dc) beside = beside || fine.is(r + dr)[c + dc] == CellIs::Unknown;
        if (!beside) continue;
        fine.is(r)[c] = CellIs::Known;
        fine.x(r)[c] = static_cast<double>(z.at(c, r - first));
        sum += static_cast<double>(z.at(c, r - first));
        ++known;
      }
    fine.let_go(std::max<std::int64_t>(0, first - 1), first + n - 2);
  }
  mean_ = known > 0 ? sum / known : std::nan("");
}

WideMembrane::WideMembrane(const VoidCells& voids, std::uint32_t region, const Grid& grid, double aspect)
    : WideSurface(voids, region, grid.frame(),
                  17 * static_cast<std::uint64_t>(voids.map().regions[region].box.cells())),
      box_(voids.map().regions[region].box.grown(1)) {
  const double across = 1 / (aspect * aspect);
  heights_ = std::make_unique<Level>(box_.cols, box_.rows, across);
  mark(voids, region, grid, *heights_);
  double low = INFINITY, high = -INFINITY;
  heights_->each_row(true, [&](std::int64_t row) {
    for (std::int64_t c = 0; c < box_.cols; ++c) {
      if (heights_->is(row)[c] != CellIs::Known) continue;
      double& z = heights_->x(row)[c];
      z -= mean_;
      low = std::min(low, z);
      high = std::max(high, z);
    }
  });
  if (std::isnan(mean_)) {
    heights_->keep_results();
    return;
  }
  std::vector<std::unique_ptr<Level>> above;
  for (const Level* below = heights_.get(); below->unknown() > 16 && std::min(below->cols(), below->rows()) > 2;
       below = above.back().get()) {
    above.push_back(below->coarser(across));
    if (above.back()->unknown() == 0) {
      above.pop_back();
      break;
    }
  }
  const auto level = [&](std::size_t i) -> const Level& { return i == 0 ? *heights_ : *above[i - 1]; };
  const std::size_t top = above.size();
  // Down the levels and up again; the change that it makes to the heights is about what was left before.
  const double enough = Membrane::kTolerance / 5 * std::max(high - low, 1e-9);
  double change = INFINITY;
  for (; rounds_ < kMostRounds && change > enough; ++rounds_) {
    change = 0;
    for (std::size_t i = 0; i < top; ++i) {
      const double a = level(i).sweep(true), b = level(i).sweep(false);
      if (i == 0) change = std::max(a, b);
      level(i).hand_up(level(i + 1));
    }
    for (int k = 0; k < 30; ++k) {
      const double a = level(top).sweep(k % 2 == 0);
      if (top == 0) change = std::max(change, a);
    }
    for (std::size_t i = top; i-- > 0;) {
      const double a = level(i).take_down(level(i + 1)), b = level(i).sweep(true), c = level(i).sweep(false);
      if (i == 0) change = std::max({change, a, b, c});
    }
  }
  heights_->keep_results();
}

void WideMembrane::read(std::int64_t col, std::int64_t row, std::span<float> out) const {
  std::vector<double> x(out.size());
  heights_->read(col - box_.col, row - box_.row, x);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = static_cast<float>(mean_ + x[i]);
}

}  // namespace katoptra
