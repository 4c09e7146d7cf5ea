#include "membrane.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

namespace katoptra {
namespace {

constexpr std::size_t kCoarsest = 32;   // unknowns that are solved by rounds of their own
constexpr double kOvercorrected = 1.6;  // a graph of fours is stiffer than what it stands for

using Cell = VoidShape::Cell;

double dot_product(const std::vector<double>& a, const std::vector<double>& b) {
  double s = 0;
  for (std::size_t i = 0; i < a.size(); ++i) s += a[i] * b[i];
  return s;
}

}  // namespace

Membrane::Membrane(const VoidShape& shape) : rim_cells_(shape.rim.size()) {
  const double across = 1 / (shape.aspect * shape.aspect);
  const CellNumbers numbers(shape.cells), rim(shape.rim);
  Level first;
  first.begin.push_back(0);
  for (std::size_t i = 0; i < shape.cells.size(); ++i) {
    const Cell c = shape.cells[i];
    double diagonal = 0;
    for (const auto& [dc, dr] : {std::pair{0, -1}, {-1, 0}, {1, 0}, {0, 1}}) {
      const Cell beside{c.col + dc, c.row + dr};
      const double weight = dr == 0 ? across : 1;
      if (const std::int32_t j = numbers.of(beside); j >= 0) {
        first.to.push_back(j);
        first.weight.push_back(weight);
        diagonal += weight;
      } else if (const std::int32_t k = rim.of(beside); k >= 0) {
        links_.push_back({static_cast<std::int32_t>(i), k, weight});
      }
    }
    first.begin.push_back(static_cast<std::int32_t>(first.to.size()));
    first.diagonal.push_back(diagonal);
  }
  levels_.push_back(std::move(first));
  coarsen(shape.cells);
}

// Fours of cells in squares become one; links between two of them are summed.
void Membrane::coarsen(const std::vector<Cell>& fine) {
  std::vector<Cell> cells = fine;
  while (cells.size() > kCoarsest) {
    std::vector<Cell> coarse;
    for (const Cell& c : cells) coarse.push_back({c.col / 2, c.row / 2});
    std::vector<Cell> unique = coarse;
    std::sort(unique.begin(), unique.end(), [](Cell a, Cell b) {
      return std::pair{a.row, a.col} < std::pair{b.row, b.col};
    });
    unique.erase(std::unique(unique.begin(), unique.end()), unique.end());
    if (unique.size() * 10 > cells.size() * 9) return;  // single cells far apart
    Level& below = levels_.back();
    const CellNumbers numbers(unique);
    below.parent.clear();
    for (const Cell& c : coarse) below.parent.push_back(numbers.of(c));
    std::vector<std::vector<std::pair<std::int32_t, double>>> links(unique.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
      const std::int32_t p = below.parent[i];
      for (std::int32_t k = below.begin[i]; k < below.begin[i + 1]; ++k) {
        const std::int32_t q = below.parent[static_cast<std::size_t>(below.to[static_cast<std::size_t>(k)])];
        if (q == p) continue;
        auto& list = links[static_cast<std::size_t>(p)];
        const auto known = std::find_if(list.begin(), list.end(), [&](const auto& l) { return l.first == q; });
        const double w = below.weight[static_cast<std::size_t>(k)];
        if (known == list.end())
          list.push_back({q, w});
        else
          known->second += w;
      }
    }
    Level level;
    level.begin.push_back(0);
    for (auto& list : links) {
      std::sort(list.begin(), list.end());
      double diagonal = 0;
      for (const auto& [to, w] : list) {
        level.to.push_back(to);
        level.weight.push_back(w);
        diagonal += w;
      }
      level.begin.push_back(static_cast<std::int32_t>(level.to.size()));
      level.diagonal.push_back(diagonal);
    }
    levels_.push_back(std::move(level));
    cells = std::move(unique);
  }
}

void Membrane::multiply(const Level& l, const std::vector<double>& diagonal, const std::vector<double>& x,
                        std::vector<double>& out) {
  for (std::size_t i = 0; i < x.size(); ++i) {
    double s = diagonal[i] * x[i];
    for (auto k = static_cast<std::size_t>(l.begin[i]); k < static_cast<std::size_t>(l.begin[i + 1]); ++k)
      s -= l.weight[k] * x[static_cast<std::size_t>(l.to[k])];
    out[i] = s;
  }
}

void Membrane::precondition(const Diagonals& diagonals, std::size_t k, const std::vector<double>& r,
                            std::vector<double>& x) const {
  const Level& l = levels_[k];
  const std::vector<double>& diagonal = diagonals[k];
  const std::size_t n = r.size();
  const auto sweep = [&](bool down) {
    for (std::size_t j = 0; j < n; ++j) {
      const std::size_t i = down ? j : n - 1 - j;
      double s = r[i];
      for (auto m = static_cast<std::size_t>(l.begin[i]); m < static_cast<std::size_t>(l.begin[i + 1]); ++m)
        s += l.weight[m] * x[static_cast<std::size_t>(l.to[m])];
      x[i] = diagonal[i] > 0 ? s / diagonal[i] : 0;
    }
  };
  x.assign(n, 0);
  if (k + 1 == levels_.size()) {
    for (int round = 0; round < 16; ++round) {
      sweep(true);
      sweep(false);
    }
    return;
  }
  sweep(true);
  std::vector<double> rest(n), coarse(levels_[k + 1].diagonal.size(), 0), correction;
  multiply(l, diagonal, x, rest);
  for (std::size_t i = 0; i < n; ++i) coarse[static_cast<std::size_t>(l.parent[i])] += r[i] - rest[i];
  precondition(diagonals, k + 1, coarse, correction);
  for (std::size_t i = 0; i < n; ++i) x[i] += kOvercorrected * correction[static_cast<std::size_t>(l.parent[i])];
  sweep(false);
}

Membrane::Diagonals Membrane::with_pull(const std::vector<float>& rim) const {
  Diagonals diagonals;
  for (const Level& l : levels_) diagonals.push_back(l.diagonal);
  for (const Link& link : links_) {
    if (std::isnan(rim[static_cast<std::size_t>(link.rim)])) continue;
    auto i = static_cast<std::size_t>(link.cell);
    for (std::size_t k = 0; k < levels_.size(); ++k) {
      diagonals[k][i] += link.weight;
      if (!levels_[k].parent.empty()) i = static_cast<std::size_t>(levels_[k].parent[i]);
    }
  }
  return diagonals;
}

std::vector<float> Membrane::over(const std::vector<float>& rim) const {
  const std::size_t n = levels_[0].diagonal.size();
  double mean = 0, low = std::numeric_limits<double>::infinity(), high = -low;
  std::size_t known = 0;
  for (const float z : rim) {
    if (std::isnan(z)) continue;
    mean += static_cast<double>(z);
    low = std::min(low, static_cast<double>(z));
    high = std::max(high, static_cast<double>(z));
    ++known;
  }
  std::vector<float> out(n, std::numeric_limits<float>::quiet_NaN());
  if (known == 0) return out;
  mean /= static_cast<double>(known);
  const Diagonals diagonals = with_pull(rim);
  std::vector<double> b(n, 0);
  for (const Link& link : links_)
    if (const float z = rim[static_cast<std::size_t>(link.rim)]; !std::isnan(z))
      b[static_cast<std::size_t>(link.cell)] += link.weight * (static_cast<double>(z) - mean);
  std::vector<double> x(n, 0), r = b, z, p, q(n);
  precondition(diagonals, 0, r, z);
  p = z;
  double rz = dot_product(r, z);
  const double enough = kTolerance * std::max(high - low, 1e-12);
  for (int round = 0; round < 500 && rz > 0; ++round) {
    multiply(levels_[0], diagonals[0], p, q);
    const double a = rz / dot_product(p, q);
    double largest = 0;
    for (std::size_t i = 0; i < n; ++i) {
      x[i] += a * p[i];
      r[i] -= a * q[i];
      largest = std::max(largest, std::abs(a * p[i]));
    }
    precondition(diagonals, 0, r, z);
    const double next = dot_product(r, z);
    // What the next step would change is what is left, by the rate of these rounds within a few times.
    if (largest < enough / 10) break;
    const double beta = next / rz;
    rz = next;
    for (std::size_t i = 0; i < n; ++i) p[i] = z[i] + beta * p[i];
  }
  for (std::size_t i = 0; i < n; ++i) out[i] = static_cast<float>(mean + x[i]);
  return out;
}

}  // namespace katoptra
