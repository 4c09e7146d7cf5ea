#include "katoptra/terrain/solid.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <span>
#include <unordered_map>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/mesh.hpp"

namespace katoptra {
namespace {

constexpr double kMillimetres = 1000, kWidestGap = 0.002;

void require_sizes(const SolidOptions& o, const Grid& surface) {
  auto refuse = [&](const char* what, const char* how) {
    throw Error(ErrorCode::BadArgument, what, surface.info().name, how);
  };
  const bool bed = o.bed_width.metres() != 0 || o.bed_depth.metres() != 0;
  if (!bed && !o.scale) refuse("a solid needs a size", "give a bed, e.g. 200mm x 150mm, or a scale, e.g. 5000");
  if (bed && !(o.bed_width.metres() > 0 && o.bed_depth.metres() > 0 && std::isfinite(o.bed_width.metres()) &&
               std::isfinite(o.bed_depth.metres())))
    refuse("a bed is larger than nothing both ways", "give for instance 200mm x 150mm");
  if (o.scale && !(*o.scale > 0 && std::isfinite(*o.scale))) refuse("a scale is above zero", "5000 stands for 1:5000");
  if (!(o.exaggeration > 0 && o.exaggeration <= 1000))
    refuse("an exaggeration is above zero, at most 1000", "take 1 to 5");
  if (!(o.base.metres() > 0 && o.base.metres() <= 1)) refuse("a base is thicker than nothing", "take 2mm or more");
  if (!(o.error.metres() >= 0)) refuse("an error is not below zero", "take 0.1mm");
  if (!(o.water_step.metres() >= 0)) refuse("a step is not below zero", "take 0.8mm");
}

// Whole cells, no more than a printer shows on so many beds.
Grid printable(const Grid& surface, int beds_across = 1, int beds_down = 1) {
  const Frame& f = surface.frame();
  const double factor = std::max(static_cast<double>(f.cols()) / kMostSolidCells / beds_across,
                                 static_cast<double>(f.rows()) / kMostSolidCells / beds_down);
  if (factor <= 1) return surface;
  auto fewer = [&](std::int64_t n) {
    return std::max<std::int64_t>(2, static_cast<std::int64_t>(std::floor(static_cast<double>(n) / factor)));
  };
  const std::int64_t cols = fewer(f.cols()), rows = fewer(f.rows());
  const Bounds b = f.bounds();
  return reproject(surface,
                   {f.crs(),
                    f.west(),
                    f.north(),
                    {b.width() / static_cast<double>(cols), b.height() / static_cast<double>(rows)},
                    cols,
                    rows},
                   Resampling::Automatic);
}

struct Sizes {
  double x = 0, y = 0, z = 0;  // mm for a cell to the east, to the south, and for a unit of height
  double scale = 0;
};

Sizes sizes_at(const Grid& g, const SolidOptions& o, double scale) {
  const GroundSpacing s = ground_spacing(g.frame());
  return {s.x.metres() / scale * kMillimetres, s.y.metres() / scale * kMillimetres,
          metres_per(g.quantity().unit) / scale * kMillimetres * o.exaggeration, scale};
}

// Centres of the outer cells are the outer corners of the ground.
Sizes sizes_of(const Grid& g, const SolidOptions& o) {
  const GroundSpacing s = ground_spacing(g.frame());
  const double across = s.x.metres() * static_cast<double>(g.frame().cols() - 1),
               down = s.y.metres() * static_cast<double>(g.frame().rows() - 1);
  double scale = 0;
  if (o.bed_width.metres() > 0) scale = std::max(across / o.bed_width.metres(), down / o.bed_depth.metres());
  if (o.scale) {
    if (*o.scale < scale * (1 - 1e-9))
      throw Error(ErrorCode::BadArgument,
                  fmt::format("at 1:{:g} it is {:.0f} x {:.0f} mm, larger than the bed", *o.scale,
                              across / *o.scale * kMillimetres, down / *o.scale * kMillimetres),
                  g.info().name,
                  fmt::format("take 1:{:.0f}, a larger bed, a smaller area, or several tiles", std::ceil(scale)));
    scale = *o.scale;
  }
  return sizes_at(g, o, scale);
}

// Below the water all is level.
class WithWater final : public GridSource {
 public:
  WithWater(Grid input, float level, float floor) : input_(std::move(input)), level_(level), floor_(floor) {}
  const GridInfo& info() const override { return input_.info(); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (float& z : std::span(out.row(r), static_cast<std::size_t>(out.window.cols))) z = z < level_ ? floor_ : z;
  }

 private:
  Grid input_;
  float level_, floor_;
};

// Turns a mesh into a solid. Corners are told by the cell that they are the centre of, or by a place between cells.
class Builder {
 public:
  // `lowest`: what the base lies below, when that is not the lowest of the mesh.
  Builder(const SurfaceMesh& m, const Sizes& mm, const Grid& g, const SolidOptions& o, std::optional<float> lowest)
      : mesh_(m), mm_(mm), frame_(g.frame()), base_(o.base.metres() * kMillimetres) {
    s_.name = g.info().name;
    s_.frame = g.frame();
    s_.scale = mm.scale;
    low_ = std::numeric_limits<float>::infinity();
    float highest = -low_;
    for (const MeshVertex& v : m.vertices) {
      low_ = std::min(low_, v.height);
      highest = std::max(highest, v.height);
      west_ = std::min(west_, v.col);
      east_ = std::max(east_, v.col);
      north_ = std::min(north_, v.row);
      south_ = std::max(south_, v.row);
    }
    low_ = lowest.value_or(low_);
    s_.width = (east_ - west_) * mm.x;
    s_.depth = (south_ - north_) * mm.y;
    s_.height = top_of(static_cast<double>(highest));
  }

  void ground() {
    s_.triangles = mesh_.triangles;
    s_.ground = s_.triangles.size();
    for (const MeshVertex& v : mesh_.vertices) place(v.col, v.row, top_of(static_cast<double>(v.height)));
    // The underside needs only some of the corners; they follow those of the ground.
    std::vector<std::uint32_t> below(mesh_.vertices.size(), 0);
    auto under = [&](std::uint32_t v) {
      if (below[v] == 0) below[v] = place(mesh_.vertices[v].col, mesh_.vertices[v].row, 0);
      return below[v];
    };
    for (const auto& t : mesh_.floor) s_.triangles.push_back({under(t[0]), under(t[2]), under(t[1])});
    for (const auto& [u, v] : mesh_.border) {
      s_.triangles.push_back({v, u, under(u)});
      s_.triangles.push_back({v, under(u), under(v)});
    }
  }

  // Between the ground and a level: each triangle of the ground as far as it lies below it, the same turned upwards on
  // the level, and walls at the border.
  void water(double level) {
    const std::size_t dry = s_.triangles.size();
    level_ = level;
    wet_ = level - kThinnestWater / mm_.z;
    for (const auto& t : mesh_.triangles) {
      std::vector<Ends> shape;
      for (std::size_t i = 0; i < 3; ++i) {
        const std::uint32_t u = t[i], w = t[(i + 1) % 3];
        if (is_wet(u)) shape.push_back(ends(u));
        if (is_wet(u) != is_wet(w)) shape.push_back(shore(u, w));
      }
      // A side from one shore to the next belongs to both faces: no other side may do so, so the fan begins at the
      // first corner that is under water and is followed by another one, if there is one.
      const std::size_t n = shape.size();
      std::size_t first = 0;
      for (std::size_t i = 0; i < n; ++i)
        if (shape[i].is_deep() && (n == 3 || shape[(i + 1) % n].is_deep())) {
          first = i;
          break;
        }
      for (std::size_t i = 1; i + 1 < n; ++i) {
        const Ends &a = shape[first], &b = shape[(first + i) % n], &c = shape[(first + i + 1) % n];
        s_.triangles.push_back({a.bottom, c.bottom, b.bottom});
        s_.triangles.push_back({a.top, b.top, c.top});
      }
    }
    for (const auto& [u, v] : mesh_.border) {
      if (!is_wet(u) && !is_wet(v)) continue;
      const Ends a = is_wet(u) ? ends(u) : shore(u, v), b = is_wet(v) ? ends(v) : shore(u, v);
      if (a.is_deep()) s_.triangles.push_back({b.top, a.top, a.bottom});
      if (b.is_deep()) s_.triangles.push_back({b.top, a.bottom, b.bottom});
    }
    s_.water = s_.triangles.size() - dry;
    if (s_.water > 0) s_.height = std::max(s_.height, top_of(level));
  }

  Solid take() { return std::move(s_); }
  std::int32_t west() const { return west_; }
  std::int32_t south() const { return south_; }

 private:
  // Of the water over a corner; at its shore both are one.
  struct Ends {
    std::uint32_t top, bottom;
    bool is_deep() const { return top != bottom; }
  };

  double top_of(double height) const { return base_ + (height - static_cast<double>(low_)) * mm_.z; }
  std::uint32_t place(double col, double row, double z) {
    s_.vertices.push_back(
        {static_cast<float>((col - west_) * mm_.x), static_cast<float>((south_ - row) * mm_.y), static_cast<float>(z)});
    s_.on_map.push_back({static_cast<float>((col + 0.5) / static_cast<double>(frame_.cols())),
                         static_cast<float>((row + 0.5) / static_cast<double>(frame_.rows()))});
    return static_cast<std::uint32_t>(s_.vertices.size() - 1);
  }
  bool is_wet(std::uint32_t v) const { return static_cast<double>(mesh_.vertices[v].height) < wet_; }
  Ends ends(std::uint32_t v) {
    const auto [known, fresh] = ends_.try_emplace(v);
    if (fresh) {
      const MeshVertex& m = mesh_.vertices[v];
      known->second = {place(m.col, m.row, top_of(level_)), place(m.col, m.row, top_of(static_cast<double>(m.height)))};
    }
    return known->second;
  }
  // Where a side of the ground meets the level; never so near to a corner that triangles there would have no width.
  Ends shore(std::uint32_t u, std::uint32_t w) {
    constexpr double kNearest = 0.05;
    if (u > w) std::swap(u, w);
    const auto [known, fresh] = shores_.try_emplace(std::uint64_t{u} << 32 | w);
    if (fresh) {
      const MeshVertex &a = mesh_.vertices[u], &b = mesh_.vertices[w];
      const double from = static_cast<double>(a.height), to = static_cast<double>(b.height);
      const double t = std::clamp((level_ - from) / (to - from), kNearest, 1 - kNearest);
      known->second = place(a.col + t * (b.col - a.col), a.row + t * (b.row - a.row), top_of(level_));
    }
    return {known->second, known->second};
  }

  const SurfaceMesh& mesh_;
  Sizes mm_;
  Frame frame_;
  double base_, level_ = 0, wet_ = 0;
  float low_ = 0;
  std::int32_t west_ = std::numeric_limits<std::int32_t>::max(), east_ = 0, north_ = west_, south_ = 0;
  Solid s_;
  std::unordered_map<std::uint32_t, Ends> ends_;
  std::unordered_map<std::uint64_t, std::uint32_t> shores_;
};

Grid with_water(const Grid& g, const Sizes& mm, const SolidOptions& o) {
  if (!o.water || o.water_body) return g;
  const double level = o.water->in(g.quantity().unit), step = o.water_step.metres() * kMillimetres / mm.z;
  return Grid(std::make_shared<WithWater>(g, static_cast<float>(level), static_cast<float>(level - step)));
}

// Nothing where there is no ground.
std::optional<Builder> built(const SurfaceMesh& m, const Sizes& mm, const Grid& g, const SolidOptions& o,
                             std::optional<float> lowest) {
  if (m.triangles.empty()) return std::nullopt;
  std::optional<Builder> b;
  b.emplace(m, mm, g, o, lowest);
  b->ground();
  if (o.water && o.water_body) b->water(o.water->in(g.quantity().unit));
  return b;
}

// A printed error as one on the ground.
MeshOptions mesh_options(const Grid& g, const Sizes& mm, const SolidOptions& o) {
  return {.error = Length::of(o.error.metres() * kMillimetres / mm.z, g.quantity().unit), .run = o.run};
}

[[noreturn]] void refuse_without_ground(const Grid& surface) {
  throw Error(ErrorCode::BadFile, "holds no ground: no four known cells lie together", surface.info().name,
              "check the area");
}

}  // namespace

Solid surface_solid(const Grid& surface, const SolidOptions& options) {
  require_sizes(options, surface);
  Grid g = printable(surface);
  if (g.frame().cols() < 2 || g.frame().rows() < 2)
    throw Error(ErrorCode::BadFile, "has too few cells for a solid", surface.info().name, "take a larger area");
  const Sizes mm = sizes_of(g, options);
  g = with_water(g, mm, options);
  const SurfaceMesh m = surface_mesh(g, mesh_options(g, mm, options));
  auto b = built(m, mm, g, options, std::nullopt);
  if (!b) refuse_without_ground(surface);
  return b->take();
}

namespace {

// Which piece each square between four cells belongs to.
class Pieces {
 public:
  Pieces(const Frame& f, const Sizes& mm, int across, int down, const SolidTiling& t)
      : cols_(f.cols() - 1),
        rows_(f.rows() - 1),
        across_(across),
        down_(down),
        mm_(mm),
        tab_(t.tab.metres() * kMillimetres) {
    gap_x_ = std::llround(t.gap.metres() * kMillimetres / mm.x);
    gap_y_ = std::llround(t.gap.metres() * kMillimetres / mm.y);
  }

  // The squares that a piece may have: its own, and those of its tabs.
  Window reach(int col, int row) const {
    const auto tab_x = static_cast<std::int64_t>(std::ceil(tab_ / mm_.x)),
               tab_y = static_cast<std::int64_t>(std::ceil(tab_ / mm_.y));
    const std::int64_t west = edge(col, across_, cols_), north = edge(row, down_, rows_);
    return Window{west, north, edge(col + 1, across_, cols_) - west + tab_x,
                  edge(row + 1, down_, rows_) - north + tab_y}
        .intersected({0, 0, cols_, rows_});
  }
  // Half of the gap is taken from either piece, the odd cell from the one east or south of it.
  bool holds(int col, int row, std::int64_t x, std::int64_t y) const {
    // Far from the seams there is nothing to look at.
    const std::int64_t near_x = static_cast<std::int64_t>(std::ceil(tab_ / mm_.x)) + gap_x_ + 1,
                       near_y = static_cast<std::int64_t>(std::ceil(tab_ / mm_.y)) + gap_y_ + 1;
    if (x >= edge(col, across_, cols_) + near_x && x < edge(col + 1, across_, cols_) - near_x &&
        y >= edge(row, down_, rows_) + near_y && y < edge(row + 1, down_, rows_) - near_y)
      return true;
    for (std::int64_t dy = gap_y_ / 2 - gap_y_; dy <= gap_y_ / 2; ++dy)
      for (std::int64_t dx = gap_x_ / 2 - gap_x_; dx <= gap_x_ / 2; ++dx) {
        const std::int64_t a = x + dx, b = y + dy;
        if (a >= 0 && b >= 0 && a < cols_ && b < rows_ && owner(a, b) != std::pair(col, row)) return false;
      }
    return true;
  }

 private:
  static std::int64_t edge(int i, int of, std::int64_t n) { return n * i / of; }
  static int part(std::int64_t at, int of, std::int64_t n) {
    int i = static_cast<int>(std::min<std::int64_t>(of - 1, at * of / n));
    while (i > 0 && at < edge(i, of, n)) --i;
    while (i + 1 < of && at >= edge(i + 1, of, n)) ++i;
    return i;
  }
  // Whether a place so far beyond a seam, and so far from its middle, lies on the tab. In mm.
  bool on_tab(double beyond, double aside, double seam) const {
    return seam >= 5 * tab_ && beyond < tab_ && std::abs(aside) < tab_ * (0.6 + 0.4 * beyond / tab_);
  }
  std::pair<int, int> owner(std::int64_t x, std::int64_t y) const {
    const int col = part(x, across_, cols_), row = part(y, down_, rows_);
    const std::int64_t west = edge(col, across_, cols_), east = edge(col + 1, across_, cols_),
                       north = edge(row, down_, rows_), south = edge(row + 1, down_, rows_);
    const double px = (static_cast<double>(x) + 0.5) * mm_.x, py = (static_cast<double>(y) + 0.5) * mm_.y;
    const double wide = static_cast<double>(east - west) * mm_.x, high = static_cast<double>(south - north) * mm_.y;
    const double from_west = px - static_cast<double>(west) * mm_.x,
                 from_north = py - static_cast<double>(north) * mm_.y;
    if (col > 0 && on_tab(from_west, from_north - high / 2, high)) return {col - 1, row};
    if (row > 0 && on_tab(from_north, from_west - wide / 2, wide)) return {col, row - 1};
    return {col, row};
  }

  std::int64_t cols_, rows_;
  int across_, down_;
  Sizes mm_;
  double tab_;
  std::int64_t gap_x_ = 0, gap_y_ = 0;
};

// What a piece shows: its cells, voids elsewhere.
Grid piece_of(const Grid& g, const Pieces& pieces, int col, int row) {
  const Window squares = pieces.reach(col, row), cells{squares.col, squares.row, squares.cols + 1, squares.rows + 1};
  const Block b = g.read(cells);
  std::vector<float> z(static_cast<std::size_t>(cells.cells()), kVoid);
  for (std::int64_t y = 0; y < squares.rows; ++y)
    for (std::int64_t x = 0; x < squares.cols; ++x) {
      if (!pieces.holds(col, row, squares.col + x, squares.row + y)) continue;
      for (const std::int64_t v : {y, y + 1})
        for (const std::int64_t u : {x, x + 1}) z[static_cast<std::size_t>(v * cells.cols + u)] = b.at(u, v);
    }
  return grid_from_values(g.frame().sub(cells), std::move(z), g.quantity(), SampleType::Float32, g.info().name);
}

}  // namespace

void for_each_solid_tile(const Grid& surface, const SolidOptions& options, const SolidTiling& tiling,
                         const std::function<void(const SolidTile&)>& body) {
  require_sizes(options, surface);
  const std::string& name = surface.info().name;
  if (!options.scale || !(options.bed_width.metres() > 0))
    throw Error(ErrorCode::BadArgument, "tiles need a bed and a scale", name, "give both");
  const double tab = tiling.tab.metres();
  if (!(tab > 0) || !(tiling.gap.metres() >= 0) ||
      !(5 * tab < std::min(options.bed_width.metres(), options.bed_depth.metres())) || !(tiling.gap.metres() < tab / 4))
    throw Error(ErrorCode::BadArgument, "tabs reach at most a fifth of the bed, and gaps at most a quarter of a tab",
                name, "take for instance 6mm and 0.2mm");
  const Frame& f = surface.frame();
  if (f.cols() < 2 || f.rows() < 2)
    throw Error(ErrorCode::BadFile, "has too few cells for a solid", name, "take a larger area");
  const GroundSpacing s = ground_spacing(f);
  auto beds = [&](double cell, std::int64_t n, Length bed) {
    const double printed = cell * static_cast<double>(n - 1) / *options.scale;
    return static_cast<int>(std::clamp(std::ceil(printed / (bed.metres() - tab) - 1e-9), 1.0, 1e6));
  };
  const int across = beds(s.x.metres(), f.cols(), options.bed_width),
            down = beds(s.y.metres(), f.rows(), options.bed_depth);
  if (across > kMostSolidTiles / down || down > 26)
    throw Error(ErrorCode::TooLarge, fmt::format("at 1:{:g} it takes {} x {} tiles", *options.scale, across, down),
                name, fmt::format("take a smaller scale; {} tiles are the most", kMostSolidTiles));
  Grid g = printable(surface, across, down);
  const Sizes mm = sizes_at(g, options, *options.scale);
  g = with_water(g, mm, options);
  float lowest = std::numeric_limits<float>::infinity();
  for_each_band(g, Planes::Values, options.run, [&](const Block& b) {
    for (std::int64_t i = 0; i < b.window().cells(); ++i)
      if (b.row(0)[i] < lowest) lowest = b.row(0)[i];
  });
  const Pieces pieces(g.frame(), mm, across, down, tiling);
  bool some = false;
  for (int row = 0; row < down; ++row)
    for (int col = 0; col < across; ++col) {
      SolidTile tile{.name = fmt::format("{}{}", static_cast<char>('A' + row), col + 1),
                     .col = col,
                     .row = row,
                     .across = across,
                     .down = down,
                     .solid = {},
                     .surface = piece_of(g, pieces, col, row)};
      const SurfaceMesh m = surface_mesh(tile.surface, mesh_options(g, mm, options));
      auto b = built(m, mm, tile.surface, options, lowest);
      if (!b) continue;
      const Window at = pieces.reach(col, row);
      tile.x = static_cast<double>(at.col + b->west()) * mm.x;
      tile.y = static_cast<double>(g.frame().rows() - 1 - at.row - b->south()) * mm.y;
      tile.solid = b->take();
      some = true;
      body(tile);
    }
  if (!some) refuse_without_ground(surface);
}

}  // namespace katoptra
