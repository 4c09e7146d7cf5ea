#include "plate.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <utility>

#include "base/clones.hpp"
#include "plate_rounds.hpp"

namespace katoptra {
namespace {

using Cell = VoidShape::Cell;

constexpr std::int64_t kWidestAtOnce = 36;  // beyond it rounds are faster

// Numbers of the cells one line after the other across the shorter side of their box.
std::vector<std::int32_t> along_shorter_side(const VoidShape& shape) {
  const std::size_t n = shape.cells.size();
  std::vector<std::int32_t> place(n);
  std::int32_t west = std::numeric_limits<std::int32_t>::max(), east = 0;
  for (const Cell& c : shape.cells) {
    west = std::min(west, c.col);
    east = std::max(east, c.col);
  }
  if (n == 0 || east - west <= shape.cells.back().row - shape.cells.front().row) {
    std::iota(place.begin(), place.end(), 0);  // they stand by rows
    return place;
  }
  std::vector<std::int32_t> order(n);
  std::iota(order.begin(), order.end(), 0);
  std::stable_sort(order.begin(), order.end(), [&](std::int32_t a, std::int32_t b) {
    return shape.cells[static_cast<std::size_t>(a)].col < shape.cells[static_cast<std::size_t>(b)].col;
  });
  for (std::size_t i = 0; i < n; ++i) place[static_cast<std::size_t>(order[i])] = static_cast<std::int32_t>(i);
  return place;
}

KATOPTRA_CLONES void subtract(double* __restrict to, const double* __restrict from, double times, std::int64_t n) {
  for (std::int64_t i = 0; i < n; ++i) to[i] -= times * from[i];
}

// A symmetric matrix by its columns from the diagonal on, so many entries each.
class BandMatrix {
 public:
  BandMatrix(std::size_t n, std::size_t width) : n_(n), width_(width), a_(n * width, 0.0) {}
  double& at(std::size_t row, std::size_t col) { return a_[col * width_ + (row - col)]; }
  // Solves in place; false when it is not definite enough.
  bool solve(std::vector<double>& x) {
    double largest = 0;
    for (std::size_t j = 0; j < n_; ++j) largest = std::max(largest, a_[j * width_]);
    for (std::size_t j = 0; j < n_; ++j) {
      double* column = &a_[j * width_];
      const std::size_t reach = std::min(width_, n_ - j);
      if (!(column[0] > 1e-11 * largest)) return false;
      const double over = 1 / column[0];
      for (std::size_t p = 1; p < reach; ++p) {
        const double l = column[p] * over;
        if (l != 0) subtract(&a_[(j + p) * width_], column + p, l, static_cast<std::int64_t>(reach - p));
      }
    }
    // L D L': columns hold D on the diagonal and D L below.
    for (std::size_t j = 0; j < n_; ++j) {
      const double* column = &a_[j * width_];
      const double v = x[j] / column[0];
      const std::size_t reach = std::min(width_, n_ - j);
      for (std::size_t p = 1; p < reach; ++p) x[j + p] -= column[p] * v;
      x[j] = v;
    }
    for (std::size_t j = n_; j-- > 0;) {
      const double* column = &a_[j * width_];
      const std::size_t reach = std::min(width_, n_ - j);
      double s = 0;
      for (std::size_t p = 1; p < reach; ++p) s += column[p] * x[j + p];
      x[j] -= s / column[0];
    }
    return true;
  }

 private:
  std::size_t n_, width_;
  std::vector<double> a_;
};

// The mean of what is known, and how far it goes.
struct KnownHeights {
  double mean = 0, range = 0;
};
KnownHeights about(const std::vector<float>& rim, const std::vector<float>& outer) {
  KnownHeights k;
  double low = std::numeric_limits<double>::infinity(), high = -low, n = 0;
  for (const auto* ring : {&rim, &outer})
    for (const float z : *ring) {
      if (std::isnan(z)) continue;
      k.mean += static_cast<double>(z);
      low = std::min(low, static_cast<double>(z));
      high = std::max(high, static_cast<double>(z));
      ++n;
    }
  k.mean /= n;
  k.range = std::max(high - low, 1e-12);
  return k;
}

}  // namespace

double Plate::factor(Kind kind, int i) const {
  static constexpr double kThree[] = {1, -2, 1, 0}, kFour[] = {1, -1, -1, 1};
  return weight_[static_cast<int>(kind)] * (kind == Kind::Twist ? kFour[i] : kThree[i]);
}

Plate::Plate(const VoidShape& shape)
    : shape_(shape), cells_(shape.cells.size()), rim_cells_(shape.rim.size()), place_(along_shorter_side(shape)) {
  // Roots of the weights of squares: a cell is `aspect` wide and one high.
  weight_[static_cast<int>(Kind::Across)] = 1 / (shape.aspect * shape.aspect);
  weight_[static_cast<int>(Kind::Down)] = 1;
  weight_[static_cast<int>(Kind::Twist)] = std::sqrt(2.0) / shape.aspect;
  const CellNumbers cells(shape.cells), rim(shape.rim);
  for (const Cell& c : shape.cells)
    for (const auto& [dc, dr] : {std::pair{-2, 0}, {2, 0}, {0, -2}, {0, 2}}) {
      const Cell far{c.col + dc, c.row + dr};
      if (cells.of(far) < 0 && rim.of(far) < 0) outer_.push_back(far);
    }
  for (const Cell& c : shape.cells)
    for (std::int32_t dr = -1; dr <= 1; ++dr)
      for (std::int32_t dc = -1; dc <= 1; ++dc) {
        const Cell near{c.col + dc, c.row + dr};
        if (cells.of(near) < 0 && rim.of(near) < 0) nobodys_.push_back(near);
      }
  for (auto* list : {&outer_, &nobodys_}) {
    std::sort(list->begin(), list->end(), [](Cell a, Cell b) {
      return std::pair{a.row, a.col} < std::pair{b.row, b.col};
    });
    list->erase(std::unique(list->begin(), list->end()), list->end());
  }
  for (std::size_t i = 0; i < cells_; ++i)
    for (const auto& [dc, dr] : {std::pair{1, 0}, {2, 0}, {0, 1}, {0, 2}, {1, 1}, {-1, 1}})
      if (const auto k = cells.of({shape.cells[i].col + dc, shape.cells[i].row + dr}); k >= 0)
        band_ = std::max<std::int64_t>(band_, std::abs(place_[i] - place_[static_cast<std::size_t>(k)]));
  if (band_ <= kWidestAtOnce) find_bends(cells, rim);
}

void Plate::find_bends(const CellNumbers& cells, const CellNumbers& rim) {
  const CellNumbers outer(outer_);
  // What a place is called; nothing where it is neither void nor looked at.
  constexpr std::int32_t kNowhere = std::numeric_limits<std::int32_t>::min();
  const auto name = [&](Cell c) {
    if (const auto i = cells.of(c); i >= 0) return i;
    if (const auto i = rim.of(c); i >= 0) return -1 - i;
    if (const auto i = outer.of(c); i >= 0) return -1 - static_cast<std::int32_t>(rim_cells_) - i;
    return kNowhere;
  };
  const auto add = [&](Kind kind, std::initializer_list<Cell> at, const Cell& owner) {
    Bend b{{kNowhere, kNowhere, kNowhere, kNowhere}, kind};
    int n = 0;
    for (const Cell& c : at) {
      b.cell[n] = name(c);
      if (b.cell[n] == kNowhere) return;
      // Of all its unknown cells the first in order adds a bending.
      if (b.cell[n] >= 0 && std::pair{c.row, c.col} < std::pair{owner.row, owner.col}) return;
      ++n;
    }
    bends_.push_back(b);
  };
  for (const Cell& c : shape_.cells) {
    for (std::int32_t k = -2; k <= 0; ++k) {
      add(Kind::Across, {{c.col + k, c.row}, {c.col + k + 1, c.row}, {c.col + k + 2, c.row}}, c);
      add(Kind::Down, {{c.col, c.row + k}, {c.col, c.row + k + 1}, {c.col, c.row + k + 2}}, c);
    }
    for (std::int32_t i = -1; i <= 0; ++i)
      for (std::int32_t j = -1; j <= 0; ++j)
        add(Kind::Twist,
            {{c.col + i, c.row + j},
             {c.col + i + 1, c.row + j},
             {c.col + i, c.row + j + 1},
             {c.col + i + 1, c.row + j + 1}},
            c);
  }
}

Plate::System Plate::system_for(const std::vector<float>& rim, const std::vector<float>& outer) const {
  const auto known = [&](std::int32_t name) {
    const auto i = static_cast<std::size_t>(-1 - name);
    return static_cast<double>(i < rim_cells_ ? rim[i] : outer[i - rim_cells_]);
  };
  System s;
  s.base = about(rim, outer).mean;
  // Bendings of which a cell is not known are not asked for; of the others the known cells are what they are bent to.
  s.right.assign(cells_, 0);
  for (const Bend& bend : bends_) {
    const int n = bend.kind == Kind::Twist ? 4 : 3;
    double given = 0;
    for (int i = 0; i < n; ++i)
      if (bend.cell[i] < 0) given += factor(bend.kind, i) * (known(bend.cell[i]) - s.base);
    if (std::isnan(given)) continue;
    s.bends.push_back(bend);
    for (int i = 0; i < n; ++i)
      if (bend.cell[i] >= 0) s.right[static_cast<std::size_t>(bend.cell[i])] -= factor(bend.kind, i) * given;
    for (std::int32_t& cell : s.bends.back().cell)
      if (cell < 0) cell = static_cast<std::int32_t>(cells_);
  }
  return s;
}

bool Plate::solve_at_once(const System& s, std::vector<double>& x) const {
  const auto unknown = [&](std::int32_t cell) { return cell < static_cast<std::int32_t>(cells_); };
  BandMatrix a(cells_, static_cast<std::size_t>(band_) + 1);
  for (const Bend& b : s.bends) {
    const int n = b.kind == Kind::Twist ? 4 : 3;
    for (int i = 0; i < n; ++i)
      for (int k = 0; k < n; ++k) {
        if (!unknown(b.cell[i]) || !unknown(b.cell[k])) continue;
        const auto row = static_cast<std::size_t>(place_[static_cast<std::size_t>(b.cell[i])]),
                   col = static_cast<std::size_t>(place_[static_cast<std::size_t>(b.cell[k])]);
        if (row >= col) a.at(row, col) += factor(b.kind, i) * factor(b.kind, k);
      }
  }
  std::vector<double> solved(cells_);
  for (std::size_t i = 0; i < cells_; ++i) solved[static_cast<std::size_t>(place_[i])] = s.right[i];
  if (!a.solve(solved)) return false;
  for (std::size_t i = 0; i < cells_; ++i) x[i] = solved[static_cast<std::size_t>(place_[i])];
  return true;
}

void Plate::solve_in_rounds(const std::vector<float>& rim, const std::vector<float>& outer,
                            std::vector<float>& out) const {
  CellRuns runs;
  std::int32_t row = 0, cols = 0;
  for (const Cell& c : shape_.cells) {
    for (; row < c.row; ++row) runs.end_row();
    runs.add(c.col, c.col + 1);
    cols = std::max(cols, c.col + 1);
  }
  runs.end_row();
  PlateRounds plate(cols, std::move(runs), shape_.aspect, HeldIn::Memory);
  const KnownHeights known = about(rim, outer);
  std::vector<PlateRounds::Cell> gone;
  for (const Cell& c : nobodys_) gone.push_back({c.col, c.row});
  for (const auto& [cells, z] : {std::pair{&shape_.rim, &rim}, {&outer_, &outer}})
    for (std::size_t i = 0; i < z->size(); ++i) {
      const Cell& c = (*cells)[i];
      if (std::isnan((*z)[i]))
        gone.push_back({c.col, c.row});
      else if (c.row >= -2 && c.row < row + 3 && c.col >= -2 && c.col < cols + 2)
        plate.heights(c.row)[c.col] = static_cast<double>((*z)[i]) - known.mean;
    }
  plate.leave_out(gone);
  plate.solve(kTolerance / 2 * known.range);
  for (std::size_t i = 0; i < cells_; ++i)
    out[i] = static_cast<float>(known.mean + plate.heights(shape_.cells[i].row)[shape_.cells[i].col]);
}

std::vector<float> Plate::over(const std::vector<float>& rim, const std::vector<float>& outer) const {
  std::vector<float> out(cells_, std::numeric_limits<float>::quiet_NaN());
  if (std::all_of(rim.begin(), rim.end(), [](float z) { return std::isnan(z); })) return out;
  if (band_ <= kWidestAtOnce) {
    const System s = system_for(rim, outer);
    std::vector<double> x(cells_);
    if (solve_at_once(s, x)) {
      for (std::size_t i = 0; i < cells_; ++i) out[i] = static_cast<float>(s.base + x[i]);
      return out;
    }
  }
  solve_in_rounds(rim, outer, out);
  return out;
}

}  // namespace katoptra
