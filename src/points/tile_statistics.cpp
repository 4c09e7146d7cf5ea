// Statistics of the points in and around each cell of a tile.
#include <algorithm>
#include <cmath>
#include <limits>

#include "tile_grids.hpp"

namespace katoptra {
namespace {

// Points in the order of their cells (those around the tile included); in a cell by place, so that sums do not depend
// on the order in which files came.
struct Binned {
  std::vector<StoredPoint> points;
  std::vector<std::size_t> begin;  // by cell, one more at the end
  std::int64_t cols = 0, rows = 0, halo = 0;

  Binned(const TilePlan& plan, const Window& w, std::int64_t halo_cells)
      : cols(w.cols + 2 * halo_cells), rows(w.rows + 2 * halo_cells), halo(halo_cells) {
    const double cx = plan.cell_x(), cy = plan.cell_y();
    const double west = plan.x_of(w.col - halo) - cx / 2, north = plan.y_of(w.row - halo) + cy / 2;
    const auto all = plan.buckets->in_box(std::floor(west), std::floor(north - cy * static_cast<double>(rows)),
                                          std::ceil(west + cx * static_cast<double>(cols)), std::ceil(north));
    const CellFinder find(plan);
    auto cell_of = [&](const StoredPoint& p) -> std::int64_t {
      const std::int64_t c = find.col(p.x) - w.col + halo, r = find.row(p.y) - w.row + halo;
      return c < 0 || c >= cols || r < 0 || r >= rows ? -1 : r * cols + c;
    };
    begin.assign(static_cast<std::size_t>(cols * rows) + 1, 0);
    for (const StoredPoint& p : all)
      if (const std::int64_t k = cell_of(p); k >= 0) ++begin[static_cast<std::size_t>(k) + 1];
    for (std::size_t k = 1; k < begin.size(); ++k) begin[k] += begin[k - 1];
    points.resize(begin.back());
    std::vector<std::size_t> next(begin.begin(), begin.end() - 1);
    for (const StoredPoint& p : all)
      if (const std::int64_t k = cell_of(p); k >= 0) points[next[static_cast<std::size_t>(k)]++] = p;
    for (std::size_t k = 0; k + 1 < begin.size(); ++k)
      std::sort(points.begin() + static_cast<std::ptrdiff_t>(begin[k]),
                points.begin() + static_cast<std::ptrdiff_t>(begin[k + 1]));
  }
};

double percentile_of(std::vector<float>& v, double percent) {
  const double at = percent / 100 * static_cast<double>(v.size() - 1);
  const auto low = static_cast<std::size_t>(at);
  std::nth_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(low), v.end());
  const double a = v[low];
  if (low + 1 >= v.size()) return a;
  const double b = *std::min_element(v.begin() + static_cast<std::ptrdiff_t>(low) + 1, v.end());
  return a + (at - static_cast<double>(low)) * (b - a);
}

// What a method makes of the heights near a cell; `weights` are 1/d^2, infinite for points at the centre.
float value_of(const PointStatistic& s, std::vector<float>& z, const std::vector<double>& weights) {
  const auto n = static_cast<double>(z.size());
  if (s.method == PointMethod::Count) return static_cast<float>(n);
  if (z.empty()) return kVoid;
  auto mean = [&] {
    double sum = 0;
    for (float v : z) sum += v;
    return sum / n;
  };
  switch (s.method) {
    case PointMethod::Lowest:
      return *std::min_element(z.begin(), z.end());
    case PointMethod::Highest:
      return *std::max_element(z.begin(), z.end());
    case PointMethod::Mean:
      return static_cast<float>(mean());
    case PointMethod::Deviation: {
      const double m = mean();
      double sum = 0;
      for (float v : z) sum += (v - m) * (v - m);
      return static_cast<float>(std::sqrt(sum / n));
    }
    case PointMethod::InverseDistance: {
      double sum = 0, all = 0, here = 0, at_centre = 0;
      for (std::size_t i = 0; i < z.size(); ++i) {
        if (std::isinf(weights[i])) {
          at_centre += z[i];
          ++here;
        }
        sum += weights[i] * z[i];
        all += weights[i];
      }
      return static_cast<float>(here > 0 ? at_centre / here : sum / all);
    }
    default: {
      std::vector<float> copy = z;
      return static_cast<float>(percentile_of(copy, s.method == PointMethod::Median ? 50 : s.percentile));
    }
  }
}

constexpr double kUnseen = std::numeric_limits<double>::infinity();
// The source of the nearest point, the first of several.
struct Nearest {
  double distance2 = kUnseen;
  std::uint32_t source = 0;
  void take(double d2, std::uint32_t of) {
    if (d2 < distance2) {
      distance2 = d2;
      source = of;
    }
  }
};

}  // namespace

TileCells counted_tile(const TilePlan& plan, const Window& w) {
  const auto& methods = plan.options.methods;
  TileCells out(w, methods.size());
  const double cx = plan.cell_x(), cy = plan.cell_y(), radius = plan.radius;
  const auto halo = radius > 0 ? static_cast<std::int64_t>(std::ceil(radius / std::min(cx, cy) + 0.5)) : 0;
  const Binned bins(plan, w, halo);
  std::vector<float> z;
  std::vector<double> weights;
  for (std::int64_t r = 0; r < w.rows; ++r)
    for (std::int64_t c = 0; c < w.cols; ++c) {
      const double x = plan.x_of(w.col + c), y = plan.y_of(w.row + r);
      z.clear();
      weights.clear();
      const auto own = static_cast<std::size_t>((r + halo) * bins.cols + c + halo);
      Nearest in_cell, around;
      for (std::int64_t br = r; br <= r + 2 * halo; ++br)
        for (std::int64_t bc = c; bc <= c + 2 * halo; ++bc) {
          const auto bin = static_cast<std::size_t>(br * bins.cols + bc);
          for (std::size_t i = bins.begin[bin]; i < bins.begin[bin + 1]; ++i) {
            const StoredPoint& p = bins.points[i];
            const double d2 = (p.x - x) * (p.x - x) + (p.y - y) * (p.y - y);
            if (bin == own) in_cell.take(d2, p.source);
            if (radius > 0 && d2 > radius * radius) continue;
            around.take(d2, p.source);
            z.push_back(p.z);
            weights.push_back(1 / d2);
          }
        }
      const auto at = static_cast<std::size_t>(r * w.cols + c);
      for (std::size_t m = 0; m < methods.size(); ++m) out.planes[m][at] = value_of(methods[m], z, weights);
      if (in_cell.distance2 < kUnseen || around.distance2 < kUnseen)
        out.origin[at] = in_cell.distance2 < kUnseen ? measured_from(in_cell.source) : interpolated_from(around.source);
    }
  return out;
}

}  // namespace katoptra
