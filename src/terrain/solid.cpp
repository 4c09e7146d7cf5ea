#include "katoptra/terrain/solid.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/mesh.hpp"

namespace katoptra {
namespace {

constexpr double kMillimetres = 1000;

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

// Whole cells, no more than a printer shows.
Grid printable(const Grid& surface) {
  const Frame& f = surface.frame();
  const std::int64_t most = std::max(f.cols(), f.rows());
  if (most <= kMostSolidCells) return surface;
  const double factor = static_cast<double>(most) / kMostSolidCells;
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
                  g.info().name, fmt::format("take 1:{:.0f}, a larger bed, or a smaller area", std::ceil(scale)));
    scale = *o.scale;
  }
  return {s.x.metres() / scale * kMillimetres, s.y.metres() / scale * kMillimetres,
          metres_per(g.quantity().unit) / scale * kMillimetres * o.exaggeration, scale};
}

// Below the water all is level.
class WithWater final : public GridSource {
 public:
  WithWater(Grid input, float level, float floor) : input_(std::move(input)), level_(level), floor_(floor) {}
  const GridInfo& info() const override { return input_.info(); }
  void read(const BlockView& out) const override {
    const Block b = input_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const float z = b.row(r)[c];
        out.row(r)[c] = z < level_ ? floor_ : z;
      }
  }

 private:
  Grid input_;
  float level_, floor_;
};

Solid closed(const SurfaceMesh& m, const Sizes& mm, const Grid& g, const SolidOptions& o) {
  Solid s{.name = g.info().name, .vertices = {}, .triangles = m.triangles, .on_map = {}, .frame = g.frame()};
  s.ground = m.triangles.size();
  s.scale = mm.scale;
  float lowest = std::numeric_limits<float>::infinity(), highest = -lowest;
  std::int32_t west = std::numeric_limits<std::int32_t>::max(), east = 0, north = west, south = 0;
  for (const MeshVertex& v : m.vertices) {
    lowest = std::min(lowest, v.height);
    highest = std::max(highest, v.height);
    west = std::min(west, v.col);
    east = std::max(east, v.col);
    north = std::min(north, v.row);
    south = std::max(south, v.row);
  }
  const double base = o.base.metres() * kMillimetres;
  auto place = [&](const MeshVertex& v, double z) {
    s.vertices.push_back(
        {static_cast<float>((v.col - west) * mm.x), static_cast<float>((south - v.row) * mm.y), static_cast<float>(z)});
    s.on_map.push_back({static_cast<float>((v.col + 0.5) / static_cast<double>(g.frame().cols())),
                        static_cast<float>((v.row + 0.5) / static_cast<double>(g.frame().rows()))});
  };
  for (const MeshVertex& v : m.vertices)
    place(v, base + (static_cast<double>(v.height) - static_cast<double>(lowest)) * mm.z);
  // The underside needs only some of the corners; they follow those of the ground.
  std::vector<std::uint32_t> below(m.vertices.size(), 0);
  auto under = [&](std::uint32_t v) {
    if (below[v] == 0) {
      below[v] = static_cast<std::uint32_t>(s.vertices.size());
      place(m.vertices[v], 0);
    }
    return below[v];
  };
  for (const auto& t : m.floor) s.triangles.push_back({under(t[0]), under(t[2]), under(t[1])});
  for (const auto& [u, v] : m.border) {
    s.triangles.push_back({v, u, under(u)});
    s.triangles.push_back({v, under(u), under(v)});
  }
  s.width = (east - west) * mm.x;
  s.depth = (south - north) * mm.y;
  s.height = base + (static_cast<double>(highest) - static_cast<double>(lowest)) * mm.z;
  return s;
}

}  // namespace

Solid surface_solid(const Grid& surface, const SolidOptions& options) {
  require_sizes(options, surface);
  Grid g = printable(surface);
  if (g.frame().cols() < 2 || g.frame().rows() < 2)
    throw Error(ErrorCode::BadFile, "has too few cells for a solid", surface.info().name, "take a larger area");
  const Sizes mm = sizes_of(g, options);
  if (options.water) {
    const double level = options.water->in(g.quantity().unit), step = options.water_step.metres() * kMillimetres / mm.z;
    g = Grid(std::make_shared<WithWater>(g, static_cast<float>(level), static_cast<float>(level - step)));
  }
  // A printed error as one on the ground.
  const double error = options.error.metres() * kMillimetres / mm.z;
  const SurfaceMesh m = surface_mesh(g, {.error = Length::of(error, g.quantity().unit), .run = options.run});
  if (m.triangles.empty())
    throw Error(ErrorCode::BadFile, "holds no ground: no four known cells lie together", surface.info().name,
                "check the area");
  return closed(m, mm, g, options);
}

}  // namespace katoptra
