#include "mean.hpp"

#include <array>
#include <fmt/format.h>
#include <numeric>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"

#include "grid/error_kernel.hpp"
#include "patch_field.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kMostSourceCells = 4 << 20;  // of one source block, before the output window is split
constexpr std::int64_t kMostSourceCellsForOne = 16 << 20;
constexpr int kDeepest = 4;  // an output cell that folds or is cut is taken in up to 16 x 16 pieces

// A piece of an output cell as a parallelogram of source cells, and how much of the output cell it is.
struct CellPiece {
  Point centre, across, down;
  double share = 1;

  Bounds bounds() const {
    const double x = std::max(1.0, std::abs(across.x) + std::abs(down.x)) / 2,
                 y = std::max(1.0, std::abs(across.y) + std::abs(down.y)) / 2;
    return {centre.x - x, centre.y - y, centre.x + x, centre.y + y};
  }
};

// Footprints of output cells. Where the map between the frames is smooth over a patch, a cell is the parallelogram of
// its corners, which the field of patches gives. Where it is not (near a pole, at the antimeridian, at the rim of a
// projection) corners and centre come from PROJ one by one; a cell whose centre is not the middle of its corners is cut
// into four, and so on. Each footprint is a function of its cell alone, so every window gives the same bits.
class Footprints {
 public:
  // `first`, `globe`: the columns that a whole globe has once; none when `globe` is 0.
  Footprints(const Frame& from, const Frame& to, std::int64_t first, std::int64_t globe)
      : corner_cells_(from, Frame(to.crs(), to.west() - to.cell().x / 2, to.north() + to.cell().y / 2, to.cell(),
                                  to.cols() + 1, to.rows() + 1)),
        first_(first),
        globe_(globe) {}

  struct Plan {
    Window window;
    PatchField corners;
    std::vector<CellPiece> pieces;
    std::vector<std::pair<std::int32_t, std::int32_t>> of_cell;  // first piece and count; count -1: by the corners
    Bounds box;
  };

  Plan plan(const Window& w) const {
    Plan p{w, PatchField(corner_cells_, {w.col, w.row, w.cols + 1, w.rows + 1}), {}, {}, {}};
    p.of_cell.assign(static_cast<std::size_t>(w.cells()), {0, -1});
    std::vector<std::size_t> rough;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        if (!is_smooth(p, w.col + c, w.row + r))
          rough.push_back(static_cast<std::size_t>(r * w.cols + c));
        else if (r == 0 || c == 0 || r == w.rows - 1 || c == w.cols - 1 || !all_smooth(p))
          p.box.include(by_corners(p, w.col + c, w.row + r).bounds());
      }
    std::vector<Point> centres;
    for (std::size_t i : rough) {
      const auto n = static_cast<std::int64_t>(i);
      centres.push_back({static_cast<double>(w.col + n % w.cols) + 0.5, static_cast<double>(w.row + n / w.cols) + 0.5});
    }
    corner_cells_.exact(centres);
    for (std::size_t k = 0; k < rough.size(); ++k) {
      const auto n = static_cast<std::int64_t>(rough[k]);
      const std::int64_t c = w.col + n % w.cols, r = w.row + n / w.cols;
      const auto begin = p.pieces.size();
      const std::array<Point, 4> corners{corner(p, c, r), corner(p, c + 1, r), corner(p, c, r + 1),
                                         corner(p, c + 1, r + 1)};
      add(static_cast<double>(c), static_cast<double>(r), 1, centres[k], corners, 0, p.pieces);
      p.of_cell[rough[k]] = {static_cast<std::int32_t>(begin), static_cast<std::int32_t>(p.pieces.size() - begin)};
      for (std::size_t i = begin; i < p.pieces.size(); ++i) p.box.include(p.pieces[i].bounds());
    }
    return p;
  }

  // Source cells that the plan needs, all columns of the globe when it goes around its ends.
  Window needed(const Plan& p) const {
    if (p.box.empty()) return {};
    Window need = cells_around(p.box).grown(1);
    if (globe_ > 0 && (need.col < first_ || need.col + need.cols > first_ + globe_))
      need = {first_, need.row, globe_, need.rows};
    return need;
  }

  static CellPiece by_corners(const Plan& p, std::int64_t c, std::int64_t r) {
    const Point a = corner(p, c, r), b = corner(p, c + 1, r), d = corner(p, c, r + 1), e = corner(p, c + 1, r + 1);
    return {{(a.x + b.x + d.x + e.x) / 4, (a.y + b.y + d.y + e.y) / 4},
            {(b.x - a.x + e.x - d.x) / 2, (b.y - a.y + e.y - d.y) / 2},
            {(d.x - a.x + e.x - b.x) / 2, (d.y - a.y + e.y - b.y) / 2},
            1};
  }

  std::int64_t column(std::int64_t c) const {
    if (globe_ == 0) return c;
    const std::int64_t i = (c - first_) % globe_;
    return first_ + (i < 0 ? i + globe_ : i);
  }

 private:
  static const Patch& patch_at(const Plan& p, std::int64_t c, std::int64_t r) { return p.corners.patch(c, r); }
  static Point corner(const Plan& p, std::int64_t c, std::int64_t r) {
    return patch_at(p, c, r).at(c - PatchField::floor_div(c) * kPatch, r - PatchField::floor_div(r) * kPatch);
  }
  static bool is_smooth(const Plan& p, std::int64_t c, std::int64_t r) {
    return !patch_at(p, c, r).exact && !patch_at(p, c + 1, r).exact && !patch_at(p, c, r + 1).exact &&
           !patch_at(p, c + 1, r + 1).exact;
  }
  static bool all_smooth(const Plan& p) {
    return std::none_of(p.corners.all().begin(), p.corners.all().end(), [](const Patch& q) { return q.parts > 2; });
  }

  Point near(Point p, Point centre) const {
    if (globe_ > 0) p.x -= static_cast<double>(globe_) * std::round((p.x - centre.x) / static_cast<double>(globe_));
    return p;
  }

  // The parallelogram of four corners around a centre; nothing when the centre is not their middle.
  std::optional<CellPiece> parallelogram(Point centre, std::array<Point, 4> c) const {
    for (Point& q : c) q = near(q, centre);
    const CellPiece piece{centre,
                          {(c[1].x - c[0].x + c[3].x - c[2].x) / 2, (c[1].y - c[0].y + c[3].y - c[2].y) / 2},
                          {(c[2].x - c[0].x + c[3].x - c[1].x) / 2, (c[2].y - c[0].y + c[3].y - c[1].y) / 2},
                          1};
    const Bounds b = piece.bounds();
    const double close = std::max(0.1, 0.02 * std::max(b.width(), b.height()));
    const double off = std::max(std::abs((c[0].x + c[1].x + c[2].x + c[3].x) / 4 - centre.x),
                                std::abs((c[0].y + c[1].y + c[2].y + c[3].y) / 4 - centre.y));
    const double twist =
        std::max(std::abs(c[0].x - c[1].x - c[2].x + c[3].x), std::abs(c[0].y - c[1].y - c[2].y + c[3].y));
    // Written so that a corner that is no place fails.
    if (off <= close && twist <= 4 * close) return piece;
    return std::nullopt;
  }

  // The pieces of a square of output cells from (x, y), `size` wide.
  void add(double x, double y, double size, Point centre, const std::array<Point, 4>& corners, int depth,
           std::vector<CellPiece>& out) const {
    const bool nowhere = std::isnan(centre.x) &&
                         std::all_of(corners.begin(), corners.end(), [](const Point& p) { return std::isnan(p.x); });
    if (nowhere) return;
    if (auto piece = std::isnan(centre.x) ? std::nullopt : parallelogram(centre, corners)) {
      piece->share = size * size;
      out.push_back(*piece);
      return;
    }
    if (depth == kDeepest) {
      if (!std::isnan(centre.x)) out.push_back({centre, {1, 0}, {0, 1}, size * size});
      return;
    }
    // Corners of the four quarters, three a side, then their centres.
    std::array<Point, 13> q;
    for (int j = 0; j < 3; ++j)
      for (int i = 0; i < 3; ++i) q[static_cast<std::size_t>(3 * j + i)] = {x + size * i / 2, y + size * j / 2};
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 2; ++i)
        q[static_cast<std::size_t>(9 + 2 * j + i)] = {x + size * (2 * i + 1) / 4, y + size * (2 * j + 1) / 4};
    corner_cells_.exact(q);
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 2; ++i) {
        const auto k = static_cast<std::size_t>(3 * j + i);
        add(x + size * i / 2, y + size * j / 2, size / 2, q[static_cast<std::size_t>(9 + 2 * j + i)],
            {q[k], q[k + 1], q[k + 3], q[k + 4]}, depth + 1, out);
      }
  }

  SourceCells corner_cells_;
  std::int64_t first_, globe_;
};

class MeanSource final : public GridSource {
 public:
  MeanSource(Grid input, GridInfo info, std::int64_t around)
      : input_(std::move(input)),
        info_(std::move(info)),
        footprints_(input_.frame(), info_.frame, around, around > 0 ? input_.frame().cols() - 2 * around : 0),
        errors_(input_.info()) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    const Footprints::Plan plan = footprints_.plan(out.window);
    Window need = footprints_.needed(plan).intersected(input_.frame().window());
    if (must_split(need, out.window, info_.name)) return in_halves(out, [this](const BlockView& half) { read(half); });
    if (need.empty()) need = {0, 0, 1, 1};
    const Block block = input_.read(need, out.planes());
    const Under under{block, footprints_, errors_};
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const auto [first, count] = plan.of_cell[static_cast<std::size_t>(r * w.cols + c)];
        const CellPiece whole = count < 0 ? Footprints::by_corners(plan, w.col + c, w.row + r) : CellPiece{};
        const std::span<const CellPiece> pieces =
            count < 0
                ? std::span(&whole, 1)
                : std::span(plan.pieces).subspan(static_cast<std::size_t>(first), static_cast<std::size_t>(count));
        const float z = under.mean(pieces, out.uncertainty ? out.uncertainty_row(r) + c : nullptr);
        out.row(r)[c] = z;
        if (out.origin) out.origin_row(r)[c] = std::isnan(z) ? 0 : resampled_origin(under, pieces.front().centre);
      }
  }

 private:
  // The source cells of one block.
  struct Under {
    const Block& block;
    const Footprints& footprints;
    const ErrorKernel& errors;

    bool place(std::int64_t& c, std::int64_t& r) const {
      const Window& w = block.window();
      c = footprints.column(c) - w.col;
      r -= w.row;
      return c >= 0 && r >= 0 && c < w.cols && r < w.rows;
    }
    Origin origin(std::int64_t c, std::int64_t r) const { return place(c, r) ? block.origin_row(r)[c] : 0; }

    struct Sum {
      double sum = 0, weight = 0;
      void add(float z, double w) {
        if (std::isnan(z)) return;
        sum += w * static_cast<double>(z);
        weight += w;
      }
    };
    // What is asked of the cells besides, when somebody wants to know how sure their mean is: their mean variance, and
    // how heights go with places, which are counted from the middle of the output cell.
    struct Doubt {
      double variance = 0, weight = 0, z0 = 0, z = 0, x = 0, y = 0, xx = 0, yy = 0, xz = 0, yz = 0;
      void add(double dx, double dy, double height, double u, double w) {
        if (weight == 0) z0 = height;
        height -= z0;
        weight += w;
        variance += w * u * u;
        z += w * height;
        x += w * dx;
        y += w * dy;
        xx += w * dx * dx;
        yy += w * dy * dy;
        xz += w * dx * height;
        yz += w * dy * height;
      }
      // Cells count with the height of their middle, also where only a part of them, or none, lies below the output
      // cell: what that shift of the middle makes where the ground is steep.
      double shifted() const {
        const auto rise = [&](double s, double ss, double sz) {
          const double spread = ss / weight - s * s / (weight * weight);
          return spread > 1e-9 ? (sz / weight - s * z / (weight * weight)) / spread * (s / weight) : 0.0;
        };
        const double ax = rise(x, xx, xz), ay = rise(y, yy, yz);
        return (ax + ay) * (ax + ay);
      }
    };

    void add(std::int64_t col, std::int64_t row, double w, const CellPiece& p, Doubt* doubt, Sum& s) const {
      std::int64_t c = col, r = row;
      if (!place(c, r)) return;
      const float z = block.row(r)[c];
      s.add(z, w);
      if (doubt && !std::isnan(z))
        doubt->add(static_cast<double>(col) + 0.5 - p.centre.x, static_cast<double>(row) + 0.5 - p.centre.y,
                   static_cast<double>(z), static_cast<double>(block.uncertainty_row(r)[c]), w);
    }

    // The variance of a mean is the mean variance of its cells, less by what their errors balance.
    float uncertainty(std::span<const CellPiece> pieces, const Doubt& d) const {
      const CellPiece& p = pieces.front();
      const double whole = std::sqrt(
          std::accumulate(pieces.begin(), pieces.end(), 0.0, [](double a, const CellPiece& q) { return a + q.share; }) /
          p.share);
      const double wide = std::max(1.0, std::hypot(p.across.x, p.across.y) * whole),
                   high = std::max(1.0, std::hypot(p.down.x, p.down.y) * whole);
      // Cells without a value balance nothing.
      const double kept = std::sqrt(std::min(1.0, d.weight));
      return rounded_uncertainty(std::sqrt(
          d.variance / d.weight * errors.of_box(std::max(1.0, wide * kept), std::max(1.0, high * kept)) + d.shifted()));
    }

    float mean(std::span<const CellPiece> pieces, float* uncertain) const {
      Sum s;
      Doubt d;
      Doubt* doubting = uncertain ? &d : nullptr;
      for (const CellPiece& p : pieces) {
        if (!(std::abs(p.centre.x) <= 1e15 && std::abs(p.centre.y) <= 1e15)) continue;
        // Upright to a hundredth of a cell: the overlaps are exact. Else many even places speak for it.
        if (std::abs(p.across.y) <= 0.01 && std::abs(p.down.x) <= 0.01)
          box(p, doubting, s);
        else
          places(p, doubting, s);
      }
      constexpr double kHalf = 0.5 - 1e-9;
      if (uncertain) *uncertain = s.weight >= kHalf ? uncertainty(pieces, d) : kVoid;
      return s.weight >= kHalf ? static_cast<float>(s.sum / s.weight) : kVoid;
    }

    void box(const CellPiece& p, Doubt* doubting, Sum& s) const {
      const double hx = std::max(1.0, std::abs(p.across.x)) / 2, hy = std::max(1.0, std::abs(p.down.y)) / 2;
      const double x0 = p.centre.x - hx, x1 = p.centre.x + hx, y0 = p.centre.y - hy, y1 = p.centre.y + hy;
      const double scale = p.share / (4 * hx * hy);
      for (auto r = static_cast<std::int64_t>(std::floor(y0)); static_cast<double>(r) < y1; ++r) {
        const double wy = scale * (std::min(y1, static_cast<double>(r + 1)) - std::max(y0, static_cast<double>(r)));
        for (auto c = static_cast<std::int64_t>(std::floor(x0)); static_cast<double>(c) < x1; ++c)
          add(c, r, wy * (std::min(x1, static_cast<double>(c + 1)) - std::max(x0, static_cast<double>(c))), p, doubting,
              s);
      }
    }

    void places(const CellPiece& p, Doubt* doubting, Sum& s) const {
      const double wide = std::hypot(p.across.x, p.across.y), high = std::hypot(p.down.x, p.down.y);
      // As for boxes, nothing is narrower than a cell of the source.
      const double fx = std::max(1.0, 1 / wide), fy = std::max(1.0, 1 / high);
      const auto count = [](double cells) {
        return static_cast<std::int64_t>(std::ceil(std::max(std::min(4 * cells, 64.0), cells)));
      };
      const std::int64_t nx = count(wide * fx), ny = count(high * fy);
      const double w = p.share / static_cast<double>(nx * ny);
      for (std::int64_t j = 0; j < ny; ++j)
        for (std::int64_t i = 0; i < nx; ++i) {
          const double u = fx * ((static_cast<double>(i) + 0.5) / static_cast<double>(nx) - 0.5),
                       v = fy * ((static_cast<double>(j) + 0.5) / static_cast<double>(ny) - 0.5);
          add(static_cast<std::int64_t>(std::floor(p.centre.x + u * p.across.x + v * p.down.x)),
              static_cast<std::int64_t>(std::floor(p.centre.y + u * p.across.y + v * p.down.y)), w, p, doubting, s);
        }
    }
  };

  Grid input_;
  GridInfo info_;
  Footprints footprints_;
  ErrorKernel errors_;
};

}  // namespace

bool must_split(const Window& needed, const Window& out, const std::string& name) {
  if (needed.cells() > kMostSourceCells && out.cells() > 1) return true;
  if (needed.cells() > kMostSourceCellsForOne)
    throw Error(ErrorCode::TooLarge, fmt::format("one new cell covers {} cells of the source", needed.cells()), name,
                "go there in two steps, or take a smaller cell");
  return false;
}

void in_halves(const BlockView& out, const std::function<void(const BlockView&)>& read) {
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

Grid mean_resampled(const Grid& grid, GridInfo info, std::int64_t around) {
  return Grid(std::make_shared<MeanSource>(grid, std::move(info), around));
}

}  // namespace katoptra
