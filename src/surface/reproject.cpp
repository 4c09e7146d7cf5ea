#include "katoptra/surface/reproject.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kPatch = 32;                 // output cells between exact points
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

// One patch: a bilinear map, or exact points where that is not good enough.
struct Patch {
  Point corner[4];            // at cells (0,0), (32,0), (0,32), (32,32) of the patch
  std::vector<Point> points;  // all cells of the patch in row order, when it is not bilinear
  Point at(std::int64_t c, std::int64_t r) const {
    if (!points.empty()) return points[static_cast<std::size_t>(r * kPatch + c)];
    const double u = static_cast<double>(c) / kPatch, v = static_cast<double>(r) / kPatch;
    const double wx0 = (1 - v) * corner[0].x + v * corner[2].x, wx1 = (1 - v) * corner[1].x + v * corner[3].x;
    const double wy0 = (1 - v) * corner[0].y + v * corner[2].y, wy1 = (1 - v) * corner[1].y + v * corner[3].y;
    return {wx0 + u * (wx1 - wx0), wy0 + u * (wy1 - wy0)};
  }
};

// The patches under a window, on the lattice of multiples of 32 output cells, so that a cell has the same coordinates
// in every window.
class PatchField {
 public:
  PatchField(const SourceCells& cells, const Window& w)
      : col0_(floor_div(w.col)),
        row0_(floor_div(w.row)),
        across_(floor_div(w.col + w.cols - 1) - col0_ + 1),
        down_(floor_div(w.row + w.rows - 1) - row0_ + 1) {
    const std::int64_t nodes_across = 2 * across_ + 1, nodes_down = 2 * down_ + 1;
    std::vector<Point> nodes;
    nodes.reserve(static_cast<std::size_t>(nodes_across * nodes_down));
    for (std::int64_t r = 0; r < nodes_down; ++r)
      for (std::int64_t c = 0; c < nodes_across; ++c)
        nodes.push_back({static_cast<double>(col0_ * kPatch + c * (kPatch / 2)),
                         static_cast<double>(row0_ * kPatch + r * (kPatch / 2))});
    cells.exact(nodes);
    patches_.resize(static_cast<std::size_t>(across_ * down_));
    auto node = [&](std::int64_t c, std::int64_t r) { return nodes[static_cast<std::size_t>(r * nodes_across + c)]; };
    for (std::int64_t pr = 0; pr < down_; ++pr)
      for (std::int64_t pc = 0; pc < across_; ++pc) {
        Patch& p = patches_[static_cast<std::size_t>(pr * across_ + pc)];
        const std::int64_t c = 2 * pc, r = 2 * pr;
        p.corner[0] = node(c, r);
        p.corner[1] = node(c + 2, r);
        p.corner[2] = node(c, r + 2);
        p.corner[3] = node(c + 2, r + 2);
        const Point probe[] = {node(c + 1, r + 1), node(c + 1, r), node(c, r + 1), node(c + 2, r + 1),
                               node(c + 1, r + 2)};
        constexpr std::int64_t h = kPatch / 2;
        const std::int64_t at[][2] = {{h, h}, {h, 0}, {0, h}, {kPatch, h}, {h, kPatch}};
        double worst = 0;
        for (int i = 0; i < 5; ++i) {
          const Point q = p.at(at[i][0], at[i][1]);
          const double off = std::max(std::abs(q.x - probe[i].x), std::abs(q.y - probe[i].y));
          worst = std::isnan(off) ? 1e30 : std::max(worst, off);
        }
        if (worst > kTransformTolerance) exact_patch(cells, col0_ + pc, row0_ + pr, p);
      }
  }

  const Patch& patch(std::int64_t col, std::int64_t row) const {
    return patches_[static_cast<std::size_t>((floor_div(row) - row0_) * across_ + floor_div(col) - col0_)];
  }
  const std::vector<Patch>& all() const { return patches_; }
  static std::int64_t floor_div(std::int64_t v) { return v >= 0 ? v / kPatch : -((-v + kPatch - 1) / kPatch); }

 private:
  static void exact_patch(const SourceCells& cells, std::int64_t pc, std::int64_t pr, Patch& p) {
    p.points.reserve(kPatch * kPatch);
    for (std::int64_t r = 0; r < kPatch; ++r)
      for (std::int64_t c = 0; c < kPatch; ++c)
        p.points.push_back({static_cast<double>(pc * kPatch + c), static_cast<double>(pr * kPatch + r)});
    cells.exact(p.points);
  }

  std::int64_t col0_, row0_, across_, down_;
  std::vector<Patch> patches_;
};

// How many source cells wide and high one output cell is, from the patch's own corners.
Point footprint(const Patch& p) {
  if (p.points.empty()) {
    const double n = kPatch;
    return {(std::abs(p.corner[1].x - p.corner[0].x) + std::abs(p.corner[2].x - p.corner[0].x)) / n,
            (std::abs(p.corner[1].y - p.corner[0].y) + std::abs(p.corner[2].y - p.corner[0].y)) / n};
  }
  double x = 0, y = 0;
  for (std::size_t i = 0; i + kPatch + 1 < p.points.size(); i += 37) {
    const Point a = p.points[i], b = p.points[i + 1], c = p.points[i + kPatch];
    if ((i + 1) % kPatch == 0 || std::isnan(a.x + b.x + c.x)) continue;
    x = std::max(x, std::abs(b.x - a.x) + std::abs(c.x - a.x));
    y = std::max(y, std::abs(b.y - a.y) + std::abs(c.y - a.y));
  }
  return {x, y};
}

// ---------------------------------------------------------------------------------------------------------- kernels

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

  float cubic(Point p) const {
    const double x = p.x - 0.5, y = p.y - 0.5, fx = std::floor(x), fy = std::floor(y);
    const std::int64_t c = static_cast<std::int64_t>(fx) - 1 - w_.col, r = static_cast<std::int64_t>(fy) - 1 - w_.row;
    if (c < 0 || r < 0 || c + 4 > w_.cols || r + 4 > w_.rows) return bilinear(p);
    const std::array<double, 4> wx = weights(x - fx), wy = weights(y - fy);
    double sum = 0;
    for (int j = 0; j < 4; ++j) {
      const float* z = block_.row(r + j) + c;
      sum += wy[static_cast<std::size_t>(j)] * (wx[0] * static_cast<double>(z[0]) + wx[1] * static_cast<double>(z[1]) +
                                                wx[2] * static_cast<double>(z[2]) + wx[3] * static_cast<double>(z[3]));
    }
    return std::isnan(sum) ? bilinear(p) : static_cast<float>(sum);
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
  static std::array<double, 4> weights(double t) {
    const double t2 = t * t, t3 = t2 * t;
    return {-0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1, -1.5 * t3 + 2 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2};
  }

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
      all = all || !p.points.empty();
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
    float* to = out.row(r);
    Origin* origin = out.origin_row(r);
    const Point size = method_ == Resampling::Mean ? footprint(patch) : Point{};
    for (; c < end; ++c, ++patch_col) {
      const Point p = patch.at(patch_col, patch_row);
      if (std::isnan(p.x) || std::abs(p.x) > 1e15 || std::abs(p.y) > 1e15) {
        to[c] = kVoid;
      } else {
        switch (method_) {
          case Resampling::Nearest:
            to[c] = sampler.nearest(p);
            break;
          case Resampling::Bilinear:
            to[c] = sampler.bilinear(p);
            break;
          case Resampling::Mean:
            to[c] = sampler.mean(p, size);
            break;
          default:
            to[c] = sampler.cubic(p);
            break;
        }
      }
      if (origin) origin[c] = std::isnan(to[c]) ? 0 : origin_at(sampler, p);
    }
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
    cell = cell_for(crs, *options.cell, box.centre());
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
