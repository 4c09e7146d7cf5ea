#include "plate_rounds.hpp"

#include <Eigen/Cholesky>
#include <algorithm>
#include <array>
#include <cmath>
#include <initializer_list>
#include <optional>
#include <utility>

#include "base/clones.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kMargin = 2;
constexpr std::int64_t kLookedAt = 2 * kMargin;              // rows behind
constexpr std::int64_t kRoundsHeld = std::int64_t{1} << 20;  // cells that are passed before they are let go of
constexpr std::int64_t kSolvedAtOnce = 128;                  // unknown cells of the coarsest level
constexpr int kMostPlateRounds = 400;
constexpr int kSmoothingSteps = 4;  // of smoothing, before and after
constexpr double kSmoothed = 30;    // of what is smoothed: from the largest to a share of it
constexpr double kMuchHeavier = 4;  // bending one way than the other

// Of squares: what a cell across, down, and both ways weighs.
struct BendWeights {
  double across, twist, down;
};

// What bending asks of `n` cells one after the other: the sum over all bendings that a cell has a part in.
KATOPTRA_CLONES void bend(const double* __restrict x, std::int64_t stride, BendWeights w, std::int64_t n,
                          double* __restrict out) {
  const double own = 6 * (w.across + w.down) + 4 * w.twist, beside = -4 * w.across - 2 * w.twist,
               above = -4 * w.down - 2 * w.twist;
  const double *up = x - stride, *upper = up - stride, *low = x + stride, *lower = low + stride;
  for (std::int64_t i = 0; i < n; ++i)
    out[i] = ((own * x[i] + beside * (x[i - 1] + x[i + 1])) + above * (up[i] + low[i])) +
             ((w.across * (x[i - 2] + x[i + 2]) + w.down * (upper[i] + lower[i])) +
              w.twist * ((up[i - 1] + up[i + 1]) + (low[i - 1] + low[i + 1])));
}

// A step of smoothing by what `q` says of `d`.
KATOPTRA_CLONES void step_on(const double* __restrict q, double by_d, double by_rest, std::int64_t n,
                             double* __restrict rest, double* __restrict d, double* __restrict x) {
  for (std::int64_t i = 0; i < n; ++i) {
    rest[i] -= q[i];
    d[i] = by_d * d[i] + by_rest * rest[i];
    x[i] += d[i];
  }
}

// Of the thirteen cells that a cell bends with.
constexpr std::array<std::pair<int, int>, 13> kBendsWith = {
    {{0, -2}, {-1, -1}, {0, -1}, {1, -1}, {-2, 0}, {-1, 0}, {0, 0}, {1, 0}, {2, 0}, {-1, 1}, {0, 1}, {1, 1}, {0, 2}}};

CellRuns::Run halved(CellRuns::Run r) { return {(r.first + 1) / 2, r.last / 2}; }

// Cells that are unknown all through.
CellRuns coarser(const CellRuns& fine, bool across, bool down) {
  CellRuns out;
  for (std::int64_t row = 0; row < (down ? (fine.rows() + 1) / 2 : fine.rows()); ++row) {
    const auto add = [&](CellRuns::Run r) {
      if (across) r = halved(r);
      if (r.first < r.last) out.add(r.first, r.last);
    };
    const auto upper = fine.row(down ? 2 * row : row);
    if (down) {
      const auto lower = fine.row(2 * row + 1);
      for (std::size_t i = 0, k = 0; i < upper.size() && k < lower.size();) {
        add({std::max(upper[i].first, lower[k].first), std::min(upper[i].last, lower[k].last)});
        ++(upper[i].last < lower[k].last ? i : k);
      }
    } else {
      for (const CellRuns::Run& r : upper) add(r);
    }
    out.end_row();
  }
  return out;
}

}  // namespace

std::int64_t CellRuns::cells() const {
  std::int64_t n = 0;
  for (const Run& r : runs) n += r.last - r.first;
  return n;
}

class PlateRounds::Raster {
 public:
  Raster(std::int64_t cols, std::int64_t rows, HeldIn where)
      : stride_(cols + 2 * kMargin), cells_(static_cast<std::size_t>(stride_ * (rows + 2 * kMargin)), where) {}
  std::int64_t stride() const { return stride_; }
  double* row(std::int64_t r) const { return cells_.data() + (r + kMargin) * stride_ + kMargin; }
  void let_go(std::int64_t first, std::int64_t end) const {
    cells_.let_go(static_cast<std::size_t>((first + kMargin) * stride_),
                  static_cast<std::size_t>((end + kMargin) * stride_));
  }
  void close_memory() { cells_.close_memory(); }
  void read(std::int64_t col, std::int64_t r, std::span<double> out) const {
    cells_.read(static_cast<std::size_t>((r + kMargin) * stride_ + kMargin + col), out);
  }

 private:
  std::int64_t stride_;
  ScratchArray<double> cells_;
};

class PlateRounds::Level {
 public:
  Level(std::int64_t cols, CellRuns cells, BendWeights w, HeldIn where)
      : unknown(std::move(cells)),
        x(cols, unknown.rows(), where),
        rest(cols, unknown.rows(), where),
        cols_(cols),
        w_(w),
        where_(where),
        d_(cols, unknown.rows(), where) {}

  std::int64_t cols() const { return cols_; }
  CellRuns unknown;
  Raster x, rest;  // of the equations: what was found, and what is left to find

  // Calls body(row), also for `beyond` rows after the last, and lets go of those that lie further behind; of `above`, a
  // raster of the next level, of those that lie over them.
  template <class Body>
  void pass(std::initializer_list<const Raster*> used, const Body& body, std::int64_t beyond = 0,
            const Raster* above = nullptr) const {
    const std::int64_t rows = unknown.rows();
    pass_rows(
        rows + beyond, std::max<std::int64_t>(16, kRoundsHeld / x.stride()), true, body,
        [&](std::int64_t first, std::int64_t end) {
          end = std::min(end, rows);
          for (const Raster* r : used) r->let_go(first, end);
          if (above) above->let_go(down_ ? first / 2 : first, down_ ? (end + 1) / 2 : end);
        },
        kLookedAt + beyond);
  }
  // What bending asks of the unknown cells of a row; `out` begins at its first cell.
  void bending(const Raster& of, std::int64_t row, double* out) const {
    const double* from = of.row(row);
    for (const CellRuns::Run& r : unknown.row(row))
      bend(from + r.first, of.stride(), w_, r.last - r.first, out + r.first);
    if (partial_.empty()) return;
    for (auto it =
             std::partition_point(partial_.begin(), partial_.end(), [&](const Partial& p) { return p.row < row; });
         it != partial_.end() && it->row == row; ++it) {
      double s = 0;
      for (std::size_t k = 0; k < kBendsWith.size(); ++k)
        if (it->times[k] != 0)
          s += it->times[k] * from[kBendsWith[k].second * of.stride() + it->col + kBendsWith[k].first];
      out[it->col] = s;
    }
  }

  void leave_out(const std::vector<Cell>& cells);

  // Takes the roughest of what is left from it, from x = 0 on: x, and what is left of it then where `settled`.
  void smooth_first(int steps, double spread, bool settled) {
    const std::vector<Step> all = smoothing(steps, spread);
    sweep(std::span(all).subspan(1), settled, nullptr, [&](std::int64_t row) {
      double *to = x.row(row), *d = d_.row(row);
      const double *left = rest.row(row), by = all[0].by_rest;
      for (const CellRuns::Run& r : unknown.row(row))
        for (std::int64_t c = r.first; c < r.last; ++c) to[c] = d[c] = by * left[c];
    });
  }
  // Takes the correction of the level above, and then the roughest of what is left.
  void correct_and_smooth(const Level& up, int steps, double spread) {
    std::vector<double> sum(static_cast<std::size_t>(up.x.stride()), 0);
    sweep(smoothing(steps, spread), false, &up.x, [&](std::int64_t row) { take_down(up, row, sum.data() + kMargin); });
    up.x.let_go(0, up.unknown.rows());
  }

  // The level above; nothing when no cell of it is unknown.
  std::unique_ptr<Level> above() {
    across_ = w_.across * kMuchHeavier > w_.down;
    down_ = w_.down * kMuchHeavier > w_.across;
    CellRuns cells = coarser(unknown, across_, down_);
    if (cells.runs.empty()) return nullptr;
    // The same bending over cells that are larger.
    const BendWeights w = across_ && down_ ? BendWeights{w_.across / 4, w_.twist / 4, w_.down / 4}
                          : across_        ? BendWeights{w_.across / 8, w_.twist / 2, w_.down * 2}
                                           : BendWeights{w_.across * 2, w_.twist / 2, w_.down / 8};
    return std::make_unique<Level>(across_ ? (cols_ + 1) / 2 : cols_, std::move(cells), w, where_);
  }
  void hand_up(Level& up) const;

  void factorise() {
    std::vector<double> q(static_cast<std::size_t>(x.stride()));
    Eigen::MatrixXd a(unknown.cells(), unknown.cells());
    Eigen::Index col = 0;
    each_cell([&](double& one) {
      one = 1;
      Eigen::Index row = 0;
      for (std::int64_t r = 0; r < unknown.rows(); ++r) {
        bending(x, r, q.data() + kMargin);
        for (const CellRuns::Run& run : unknown.row(r))
          for (std::int64_t c = run.first; c < run.last; ++c) a(row++, col) = q[static_cast<std::size_t>(c + kMargin)];
      }
      ++col;
      one = 0;
    });
    factors_.emplace(a);
  }
  bool is_factorised() const { return factors_ && factors_->info() == Eigen::Success; }
  void solve_at_once() {
    Eigen::VectorXd right(unknown.cells());
    Eigen::Index i = 0;
    for (std::int64_t r = 0; r < unknown.rows(); ++r)
      for (const CellRuns::Run& run : unknown.row(r))
        for (std::int64_t c = run.first; c < run.last; ++c) right[i++] = rest.row(r)[c];
    const Eigen::VectorXd found = factors_->solve(right);
    i = 0;
    each_cell([&](double& v) { v = found[i++]; });
  }

 private:
  // A cell some bendings of which are not asked for: by how much it bends with those around.
  struct Partial {
    std::int64_t row, col;
    std::array<double, kBendsWith.size()> times;
  };

  template <class Body>
  void each_cell(const Body& body) {
    for (std::int64_t r = 0; r < unknown.rows(); ++r)
      for (const CellRuns::Run& run : unknown.row(r))
        for (std::int64_t c = run.first; c < run.last; ++c) body(x.row(r)[c]);
  }
  // One step of the polynomial: d becomes a share of itself and of what is left.
  struct Step {
    double by_d, by_rest;
  };
  std::vector<Step> smoothing(int steps, double spread) const {
    const double most = 16 * (w_.across + w_.down + w_.twist), least = most / spread;
    const double middle = (most + least) / 2, half = (most - least) / 2;
    std::vector<Step> out{{0, 1 / middle}};
    double rho = half / middle;
    for (int k = 1; k < steps; ++k) {
      const double next = 1 / (2 * middle / half - rho);
      out.push_back({next * rho, 2 * next / half});
      rho = next;
    }
    return out;
  }

  // All steps in one way down the rows: `first` makes d_ of a row, and adds it to x. Each step looks at rows two behind
  // those that are ready, and steps on those two further behind, which nobody looks at any more. At last what is left
  // is settled, where that is asked for.
  template <class First>
  void sweep(std::span<const Step> steps, bool settled, const Raster* above, const First& first) {
    const std::int64_t rows = unknown.rows();
    bent_.resize(std::max(bent_.size(), steps.size() + 1));
    for (auto& of_step : bent_)
      for (std::vector<double>& q : of_step) q.resize(static_cast<std::size_t>(x.stride()));
    const auto bent_row = [&](std::size_t k, std::int64_t row) {
      return bent_[k][static_cast<std::size_t>(row) % bent_[k].size()].data() + kMargin;
    };
    const auto body = [&](std::int64_t row) {
      if (row < rows) first(row);
      std::int64_t at = row - kMargin;
      for (std::size_t k = 0; k < steps.size(); ++k, at -= 2 * kMargin) {
        if (at >= 0 && at < rows) bending(d_, at, bent_row(k, at));
        const std::int64_t behind = at - kMargin;
        if (behind < 0 || behind >= rows) continue;
        const double* q = bent_row(k, behind);
        for (const CellRuns::Run& r : unknown.row(behind))
          step_on(q + r.first, steps[k].by_d, steps[k].by_rest, r.last - r.first, rest.row(behind) + r.first,
                  d_.row(behind) + r.first, x.row(behind) + r.first);
      }
      if (!settled || at < 0 || at >= rows) return;
      double *q = bent_row(steps.size(), at), *left = rest.row(at);
      bending(d_, at, q);
      for (const CellRuns::Run& r : unknown.row(at))
        for (std::int64_t c = r.first; c < r.last; ++c) left[c] -= q[c];
    };
    pass({&x, &rest, &d_}, body, kMargin * (2 * static_cast<std::int64_t>(steps.size()) + 1), above);
  }
  void take_down(const Level& up, std::int64_t row, double* sum);

  std::int64_t cols_;
  BendWeights w_;
  HeldIn where_;
  Raster d_;
  std::vector<std::array<std::vector<double>, kMargin + 1>> bent_;  // of each step: rows that are not stepped on yet
  bool across_ = true, down_ = true;                                // what the level above has halved
  std::vector<Partial> partial_;                                    // by row
  std::optional<Eigen::LLT<Eigen::MatrixXd>> factors_;
};

void PlateRounds::Level::leave_out(const std::vector<Cell>& cells) {
  std::vector<std::pair<std::int64_t, std::int64_t>> gone, touched;  // row, column
  for (const Cell& c : cells) gone.push_back({c.row, c.col});
  std::sort(gone.begin(), gone.end());
  const auto is_unknown = [&](std::int64_t col, std::int64_t row) {
    const auto runs = unknown.row(row);
    const auto it =
        std::partition_point(runs.begin(), runs.end(), [&](const CellRuns::Run& r) { return r.last <= col; });
    return it != runs.end() && it->first <= col;
  };
  for (const Cell& c : cells)
    for (const auto& [dc, dr] : kBendsWith)
      if (is_unknown(c.col + dc, c.row + dr)) touched.push_back({c.row + dr, c.col + dc});
  std::sort(touched.begin(), touched.end());
  touched.erase(std::unique(touched.begin(), touched.end()), touched.end());
  for (const auto& [row, col] : touched) {
    Partial p{row, col, {}};
    // A bending: how far its cells lie from this one, the factors of them, and that of this one.
    const auto add = [&](std::initializer_list<std::array<int, 3>> bending, double weight) {
      double own = 0;
      for (const auto& [dc, dr, times] : bending) {
        if (std::binary_search(gone.begin(), gone.end(), std::pair{row + dr, col + dc})) return;
        if (dc == 0 && dr == 0) own = times;
      }
      for (const auto& [dc, dr, times] : bending)
        p.times[static_cast<std::size_t>(std::find(kBendsWith.begin(), kBendsWith.end(), std::pair{dc, dr}) -
                                         kBendsWith.begin())] += weight * own * times;
    };
    for (int k = -2; k <= 0; ++k) {
      add({{k, 0, 1}, {k + 1, 0, -2}, {k + 2, 0, 1}}, w_.across);
      add({{0, k, 1}, {0, k + 1, -2}, {0, k + 2, 1}}, w_.down);
    }
    for (int i = -1; i <= 0; ++i)
      for (int j = -1; j <= 0; ++j) add({{i, j, 1}, {i + 1, j, -1}, {i, j + 1, -1}, {i + 1, j + 1, 1}}, w_.twist);
    partial_.push_back(p);
  }
}

// The transpose of take_down. A row above takes from the two that it is made of and those around them.
void PlateRounds::Level::hand_up(Level& up) const {
  std::vector<double> sum(static_cast<std::size_t>(x.stride() + 2), 0);
  double* s = sum.data() + kMargin;
  const auto hand = [&](std::int64_t row) {
    for (const CellRuns::Run& r : up.unknown.row(row)) {
      const std::int64_t first = across_ ? 2 * r.first - 1 : r.first, last = across_ ? 2 * r.last + 1 : r.last;
      if (down_) {
        const double *a = rest.row(2 * row - 1), *b = rest.row(2 * row), *c = rest.row(2 * row + 1),
                     *d = rest.row(2 * row + 2);
        for (std::int64_t i = first; i < last; ++i) s[i] = 0.25 * (a[i] + d[i]) + 0.75 * (b[i] + c[i]);
      } else {
        std::copy(rest.row(row) + first, rest.row(row) + last, s + first);
      }
      double* to = up.rest.row(row);
      for (std::int64_t c = r.first; c < r.last; ++c)
        to[c] = across_ ? 0.25 * (s[2 * c - 1] + s[2 * c + 2]) + 0.75 * (s[2 * c] + s[2 * c + 1]) : s[c];
    }
  };
  pass(
      {&rest},
      [&](std::int64_t row) {
        if (!down_)
          hand(row);
        else if (row % 2 == 1)
          hand(row / 2);
      },
      1, &up.rest);
}

// The corrections of a row, bilinear between the middles of the cells above; `s`: room for a row of these.
void PlateRounds::Level::take_down(const Level& up, std::int64_t row, double* s) {
  const double* near = up.x.row(down_ ? row / 2 : row);
  const double* far = down_ ? near + (row % 2 ? 1 : -1) * up.x.stride() : near;
  double *to = x.row(row), *d = d_.row(row);
  for (const CellRuns::Run& r : unknown.row(row)) {
    const std::int64_t first = across_ ? r.first / 2 - 1 : r.first, last = across_ ? (r.last - 1) / 2 + 2 : r.last;
    for (std::int64_t i = first; i < last; ++i) s[i] = 0.75 * near[i] + 0.25 * far[i];
    for (std::int64_t c = r.first; c < r.last; ++c) {
      const double by = across_ ? 0.75 * s[c / 2] + 0.25 * s[c / 2 + (c % 2 ? 1 : -1)] : s[c];
      d[c] = by;
      to[c] += by;
    }
  }
}

PlateRounds::PlateRounds(std::int64_t cols, CellRuns unknown, double aspect, HeldIn where) : where_(where) {
  const double across = 1 / (aspect * aspect);
  heights_ = std::make_unique<Raster>(cols, unknown.rows(), where);
  levels_.push_back(
      std::make_unique<Level>(cols, std::move(unknown), BendWeights{across * across, 2 * across, 1}, where));
}
PlateRounds::~PlateRounds() = default;

double* PlateRounds::heights(std::int64_t row) const { return heights_->row(row); }
const CellRuns& PlateRounds::unknown() const { return levels_[0]->unknown; }
void PlateRounds::leave_out(const std::vector<Cell>& cells) { levels_[0]->leave_out(cells); }

// From what is left of the first level's equations to about what its heights are off by, symmetric in it.
void PlateRounds::precondition(std::size_t k) {
  Level& l = *levels_[k];
  if (k + 1 == levels_.size()) {
    if (l.is_factorised()) return l.solve_at_once();
    constexpr int kManySteps = 12;
    constexpr double kWideSpread = 200;
    return l.smooth_first(kManySteps, kWideSpread, false);
  }
  l.smooth_first(kSmoothingSteps, kSmoothed, true);
  l.hand_up(*levels_[k + 1]);
  precondition(k + 1);
  l.correct_and_smooth(*levels_[k + 1], kSmoothingSteps, kSmoothed);
}

// What is left of the equations, and along which way the heights go.
class PlateRounds::Gradients {
 public:
  Gradients(Level& level, const Raster& heights, HeldIn where)
      : level_(level),
        heights_(heights),
        left_(level.cols(), level.unknown.rows(), where),
        way_(level.cols(), level.unknown.rows(), where),
        bent_(level.cols(), level.unknown.rows(), where) {
    level.pass({&heights, &left_, &bent_, &level.rest}, [&](std::int64_t row) {
      level.bending(heights, row, bent_.row(row));
      each_cell(row, [&, left = left_.row(row), rest = level.rest.row(row), bent = bent_.row(row)](std::int64_t c) {
        rest[c] = left[c] = -bent[c];
      });
    });
  }
  // What is left times what the levels make of it.
  double left_by_found() const {
    double sum = 0;
    level_.pass({&left_, &level_.x}, [&](std::int64_t row) {
      each_cell(row, [&, a = left_.row(row), b = level_.x.row(row)](std::int64_t c) { sum += a[c] * b[c]; });
    });
    return sum;
  }
  // The way goes on by a share of itself. Returns how much it bends.
  double turn(double share) {
    double sum = 0;
    level_.pass(
        {&way_, &level_.x, &bent_},
        [&](std::int64_t row) {
          each_cell(row, [&, way = way_.row(row), found = level_.x.row(row)](std::int64_t c) {
            way[c] = found[c] + share * way[c];
          });
          const std::int64_t behind = row - kMargin;
          if (behind < 0) return;
          level_.bending(way_, behind, bent_.row(behind));
          each_cell(behind,
                    [&, way = way_.row(behind), bent = bent_.row(behind)](std::int64_t c) { sum += way[c] * bent[c]; });
        },
        kMargin);
    return sum;
  }
  // Returns the largest change of a height.
  double go(double far) {
    double largest = 0;
    level_.pass({&heights_, &left_, &way_, &bent_, &level_.rest}, [&](std::int64_t row) {
      double *x = heights_.row(row), *left = left_.row(row), *rest = level_.rest.row(row);
      const double *way = way_.row(row), *bent = bent_.row(row);
      each_cell(row, [&](std::int64_t c) {
        x[c] += far * way[c];
        largest = std::max(largest, std::abs(far * way[c]));
        rest[c] = left[c] -= far * bent[c];
      });
    });
    return largest;
  }

 private:
  template <class Body>
  void each_cell(std::int64_t row, const Body& body) const {
    for (const CellRuns::Run& run : level_.unknown.row(row))
      for (std::int64_t c = run.first; c < run.last; ++c) body(c);
  }
  Level& level_;
  const Raster& heights_;
  Raster left_, way_, bent_;
};

int PlateRounds::solve(double enough) {
  while (levels_.back()->unknown.cells() > kSolvedAtOnce) {
    auto above = levels_.back()->above();
    if (!above) break;
    levels_.push_back(std::move(above));
  }
  if (levels_.back()->unknown.cells() <= kSolvedAtOnce) levels_.back()->factorise();
  Gradients gradients(*levels_[0], *heights_, where_);
  double before = 0;
  int rounds = 0, calm = 0;
  while (rounds < kMostPlateRounds && calm < 2) {
    precondition(0);
    const double now = gradients.left_by_found();
    if (!(now > 0)) break;
    const double curve = gradients.turn(rounds == 0 ? 0 : now / before);
    if (!(curve > 0)) break;
    before = now;
    calm = gradients.go(now / curve) < enough ? calm + 1 : 0;
    ++rounds;
  }
  return rounds;
}

void PlateRounds::keep_heights() {
  levels_.clear();
  heights_->close_memory();
}

void PlateRounds::read(std::int64_t col, std::int64_t row, std::span<double> out) const {
  heights_->read(col, row, out);
}

}  // namespace katoptra
