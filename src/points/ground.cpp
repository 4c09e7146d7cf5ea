#include "katoptra/points/ground.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>
#include <unordered_map>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/select.hpp"

#include "cached_tiles.hpp"
#include "decoded_once.hpp"
#include "derived.hpp"
#include "sampler.hpp"
#include "shared_points.hpp"

namespace katoptra {
namespace {

constexpr int kGround = 2, kLowNoise = 7, kWater = 9, kHighNoise = 18;
// Cubes narrower than this would find noise among sparse points.
constexpr double kSmallestCube = 2;  // metres

// ---- noise

// A point by the cube of space that it lies in; one that was lent to a tile beside its own has no place there.
struct CubePoint {
  std::int32_t x, y, z;
  PointPlace place;
};
constexpr std::uint32_t kLent = 0xFFFFFFFF;

// Which points have fewer than `enough` others in the 27 cubes around theirs. Points are sorted into tiles of columns
// of cubes, each with those at the rims of its neighbours, so that memory does not grow with the area.
class Isolated {
 public:
  Isolated(const PointCloud& cloud, const double (&edge)[3], int enough, const RunOptions& run)
      : enough_(enough),
        points_(run.memory, cloud.info().name, CommonFolder::made(run, cloud.info().name)),
        marks_(cloud) {
    sort_points(cloud, run, points_, [&](std::size_t part, const PointBatch& b, HeapBatch<CubePoint>& batch) {
      for (std::size_t i = 0; i < b.size(); ++i)
        lend({cube(b.x[i], edge[0]),
              cube(b.y[i], edge[1]),
              cube(b.z[i], edge[2]),
              {static_cast<std::uint32_t>(part), static_cast<std::uint32_t>(i)}},
             batch);
    });
    const std::vector<std::uint64_t> tiles = points_.numbers();
    share_parts<std::vector<PointPlace>>(
        tiles.size(), run, [&](std::size_t i) { return search(tiles[i]); },
        [&](std::size_t, const std::vector<PointPlace>& found) {
          for (const PointPlace& p : found) marks_.set(p.part, p.index);
        });
  }
  const PointMarks& marks() const { return marks_; }

 private:
  static constexpr std::int32_t kTile = 64;  // cubes along a tile
  static std::int32_t cube(double v, double edge) {
    const double c = std::floor(v / edge);
    return c > -0x1p30 && c < 0x1p30 ? static_cast<std::int32_t>(c) : 0;
  }
  // To its own tile, and to those that it is beside.
  static void lend(CubePoint p, HeapBatch<CubePoint>& batch) {
    const std::int32_t col = p.x >> 6, row = p.y >> 6;
    batch.add(heap_of(col, row), p);
    const auto side = [](std::int32_t in_tile) { return in_tile == 0 ? -1 : in_tile == kTile - 1 ? 1 : 0; };
    const int dc = side(p.x & (kTile - 1)), dr = side(p.y & (kTile - 1));
    p.place.part = kLent;
    if (dc) batch.add(heap_of(col + dc, row), p);
    if (dr) batch.add(heap_of(col, row + dr), p);
    if (dc && dr) batch.add(heap_of(col + dc, row + dr), p);
  }
  std::vector<PointPlace> search(std::uint64_t tile) const {
    std::vector<CubePoint> all;
    points_.read(tile, all);
    std::unordered_map<std::uint64_t, int> counts;
    for (const CubePoint& p : all) ++counts[key(p.x, p.y, p.z)];
    std::vector<PointPlace> found;
    for (const CubePoint& p : all)
      if (p.place.part != kLent && neighbours(counts, p) < enough_) found.push_back(p.place);
    return found;
  }
  // Other points in the 27 cubes around a point, as far as `enough`.
  int neighbours(const std::unordered_map<std::uint64_t, int>& counts, const CubePoint& p) const {
    // Its own cube alone is enough for nearly all.
    const auto own = counts.find(key(p.x, p.y, p.z));
    if (own->second > enough_) return enough_;
    int n = -1;
    for (int dz = -1; dz <= 1; ++dz)
      for (int dy = -1; dy <= 1; ++dy)
        for (int dx = -1; dx <= 1; ++dx) {
          const auto it = counts.find(key(p.x + dx, p.y + dy, p.z + dz));
          if (it != counts.end()) n += it->second;
          if (n >= enough_) return n;
        }
    return n;
  }
  static std::uint64_t key(std::int32_t x, std::int32_t y, std::int32_t z) {
    auto part = [](std::int32_t v) { return static_cast<std::uint64_t>(v) & 0x1FFFFF; };
    return part(x) << 42 | part(y) << 21 | part(z);
  }
  int enough_;
  Heaps<CubePoint> points_;
  PointMarks marks_;
};

// ---- seeds

// The lowest heights of cells that are ground after progressive openings; the others void.
class SeedSource : public GridSource {
 public:
  SeedSource(Grid lowest, std::vector<int> reaches, std::vector<float> steps)
      : in_(std::move(lowest)),
        info_(in_.info()),
        reaches_(std::move(reaches)),
        steps_(std::move(steps)),
        tiles_(info_.frame.window(), kTile) {
    for (int r : reaches_) halo_ += 2 * r;
  }
  const GridInfo& info() const override { return info_; }
  void make_together(const RunOptions& run, const std::string& name) {
    tiles_.make_together(run, name, [&](const Window& tile) { return made(tile); });
  }
  // In tiles that are much wider than what lies around them, and kept.
  void read(const BlockView& out) const override {
    tiles_.read(
        out, [&](const Window& tile) { return made(tile); },
        [](const BlockCache::Bytes& bytes, const Window& tile, const BlockView& part) {
          for (std::int64_t r = 0; r < part.window.rows; ++r) {
            const auto from = (part.window.row + r - tile.row) * tile.cols + part.window.col - tile.col;
            std::memcpy(part.row(r), bytes.data() + static_cast<std::size_t>(from) * sizeof(float),
                        static_cast<std::size_t>(part.window.cols) * sizeof(float));
            if (Origin* o = part.origin_row(r))
              for (std::int64_t c = 0; c < part.window.cols; ++c)
                o[c] = std::isnan(part.row(r)[c]) ? 0 : origin_code(1, How::Measured);
          }
        });
  }

 private:
  static constexpr std::int64_t kTile = 512;
  BlockCache::Bytes made(const Window& tile) const {
    BlockCache::Bytes b(static_cast<std::size_t>(tile.cells()) * sizeof(float), 0);
    const BlockView out{tile, reinterpret_cast<float*>(b.data()), nullptr, tile.cols};
    make(out);
    const auto is_void = [](float v) { return std::isnan(v); };
    return std::all_of(out.values, out.values + tile.cells(), is_void) ? BlockCache::Bytes() : b;
  }
  void make(const BlockView& out) const {
    const Window wide = out.window.grown(halo_);
    const Block lowest = in_.read(wide);
    const std::int64_t cols = wide.cols, rows = wide.rows;
    std::vector<float> surface(lowest.row(0), lowest.row(0) + cols * rows), opened;
    std::vector<std::uint8_t> rises(surface.size(), 0);
    for (std::size_t k = 0; k < reaches_.size(); ++k) {
      opened = surface;
      extreme(opened, cols, rows, reaches_[k], true);
      extreme(opened, cols, rows, reaches_[k], false);
      for (std::size_t i = 0; i < surface.size(); ++i)
        if (surface[i] - opened[i] > steps_[k]) rises[i] = 1;
      surface.swap(opened);
    }
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const auto at = static_cast<std::size_t>((r + halo_) * cols + c + halo_);
        out.row(r)[c] = rises[at] ? kVoid : lowest.row(0)[at];
      }
  }

  // The lowest (or highest) value within `reach` cells along both axes; voids have no say.
  static void extreme(std::vector<float>& v, std::int64_t cols, std::int64_t rows, int reach, bool lowest) {
    for (float& x : v) x = std::isnan(x) ? kFar : lowest ? x : -x;
    std::vector<float> padded;
    for (std::int64_t r = 0; r < rows; ++r) slide(v.data() + r * cols, cols, 1, 1, reach, padded);
    // Columns side by side, as many as the cache of a core holds.
    for (std::int64_t c = 0; c < cols; c += kSideBySide)
      slide(v.data() + c, rows, cols, std::min(kSideBySide, cols - c), reach, padded);
    for (float& x : v) x = std::isinf(x) ? kVoid : lowest ? x : -x;
  }
  // Each of `n` rows of `wide` values becomes the lowest of its 2 reach + 1 neighbours. The lowest of 2, 4, 8 ... rows
  // from each one on are found in turn, and two such runs, which may overlap, make up the whole window: all of it is
  // work on values side by side.
  static void slide(float* v, std::int64_t n, std::int64_t stride, std::int64_t wide, int reach,
                    std::vector<float>& padded) {
    padded.assign(static_cast<std::size_t>((n + 2 * reach) * wide), kFar);
    for (std::int64_t i = 0; i < n; ++i) std::copy_n(v + i * stride, wide, padded.data() + (reach + i) * wide);
    const std::int64_t window = 2 * reach + 1;
    std::int64_t run = 1;
    for (; 2 * run <= window; run *= 2) {
      const std::int64_t step = run * wide, until = static_cast<std::int64_t>(padded.size()) - step;
      float* p = padded.data();
      for (std::int64_t i = 0; i < until; ++i) p[i] = std::min(p[i], p[i + step]);
    }
    const float *first = padded.data(), *last = first + (window - run) * wide;
    for (std::int64_t i = 0; i < n; ++i)
      for (std::int64_t k = 0; k < wide; ++k) v[i * stride + k] = std::min(first[i * wide + k], last[i * wide + k]);
  }
  static constexpr float kFar = std::numeric_limits<float>::infinity();
  static constexpr std::int64_t kSideBySide = 64;

  Grid in_;
  GridInfo info_;
  std::vector<int> reaches_;
  std::vector<float> steps_;
  std::int64_t halo_ = 0;
  CachedTiles tiles_;
};

// ---- points by a surface

PointCloud changed(const PointCloud& in, PointFields needed, PointFields added, ChangedPoints::Change change) {
  return PointCloud(std::make_shared<ChangedPoints>(in, needed, added, std::move(change)));
}

Grid seeds_of(const PointCloud& cloud, const GroundFilter& o, Length cell_wanted, const RunOptions& run) {
  const PointGridding lowest_of{.methods = {{PointMethod::Lowest, 50}}, .cell = cell_wanted, .run = run};
  const Grid lowest = grid_points(cloud, lowest_of).grids[0];
  const double unit = metres_per(cloud.info().quantity.unit);
  const double cell = ground_spacing(lowest.frame()).x.metres();
  std::vector<int> reaches;
  std::vector<float> steps;
  int last = 0;
  for (int reach = 1; last * 2 * cell < o.widest.metres(); reach *= 2) {
    const int r = std::min(reach, std::max(1, static_cast<int>(std::ceil(o.widest.metres() / (2 * cell)))));
    if (r == last) break;
    reaches.push_back(r);
    // What ground may rise over the widening of the window; never less than a step in one cell.
    steps.push_back(static_cast<float>((o.step.metres() + o.slope * (r - last) * cell) / unit));
    last = r;
  }
  const auto seeds = std::make_shared<SeedSource>(lowest, std::move(reaches), std::move(steps));
  seeds->make_together(run, cloud.info().name);
  return Grid(seeds);
}

// The surface through seeds and, in two rounds, through what lies near it.
Grid ground_surface(const PointCloud& cloud, const std::shared_ptr<const PointMarks>& noise, double spacing,
                    const GroundFilter& o, const RunOptions& quiet) {
  const double unit = metres_per(cloud.info().quantity.unit);
  Grid surface;
  const PointFields both = PointFields::Return | PointFields::Class;
  const PointCloud last = changed(
      cloud, both, PointFields::None, [noise](std::size_t part, PointBatch& b, std::vector<std::uint8_t>& keep) {
        for (std::size_t i = 0; i < b.size(); ++i)
          keep[i] =
              (b.return_number.empty() || b.return_number[i] >= b.return_count[i]) && !(noise && noise->get(part, i)) &&
              (b.classification.empty() || (b.classification[i] != kLowNoise && b.classification[i] != kHighNoise));
      });
  const Length cell = o.cell > Length() ? o.cell : cell_for_spacing(Length::metres(1.5 * spacing));
  Grid seeds = seeds_of(last, o, cell, quiet);
  PointCloud ground = changed(last, PointFields::None, PointFields::None,
                              [seeds](std::size_t, PointBatch& b, std::vector<std::uint8_t>& keep) {
                                GridSampler s(seeds);
                                for (std::size_t i = 0; i < b.size(); ++i)
                                  keep[i] = static_cast<float>(b.z[i]) == s.cell_at(b.x[i], b.y[i]);
                              });
  // Gaps under buildings are bridged; the sea stays open.
  const PointGridding tin{.methods = {{PointMethod::Tin, 50}},
                          .frame = seeds.frame(),
                          .longest_edge = o.widest * 1.5,
                          .sampled = true,
                          .run = quiet};
  // The points of a grid that nobody reads any more are let go: no more than two of them are sorted at a time.
  seeds = Grid();
  for (int round = 0; round < 2; ++round) {
    surface = grid_points(ground, tin).grids[0];
    ground =
        changed(last, PointFields::None, PointFields::None,
                [surface, near = o.near.metres() / unit](std::size_t, PointBatch& b, std::vector<std::uint8_t>& keep) {
                  GridSampler s(surface);
                  for (std::size_t i = 0; i < b.size(); ++i) keep[i] = std::abs(b.z[i] - s.at(b.x[i], b.y[i])) <= near;
                });
  }
  return grid_points(ground, tin).grids[0];
}

bool is_open(int classification, bool anew) { return anew || classification <= 1; }

// Whether a point may get another class: mostly the first part says so.
bool any_open(const PointCloud& cloud, bool anew, const RunOptions& run) {
  if (anew || !has(cloud.info().fields, PointFields::Class)) return true;
  std::atomic<bool> found = false;
  parallel_for(cloud.parts(), run, [&](std::size_t i) {
    if (found) return;
    PointBatch b;
    cloud.read(i, PointFields::Class, b);
    const auto open = [](std::uint8_t c) { return is_open(c, false); };
    if (std::any_of(b.classification.begin(), b.classification.end(), open)) found = true;
  });
  return found;
}

}  // namespace

PointCloud classify_ground(const PointCloud& cloud, const GroundFilter& o) {
  const PointInfo& info = cloud.info();
  if (!(o.widest > Length()) || !(o.slope > 0) || !(o.near > Length()) || !(o.step > Length()) ||
      o.noise_neighbours < 0)
    throw Error(ErrorCode::BadArgument, "the ground filter needs widths and heights above zero", info.name,
                "leave them at their defaults");
  const double unit = metres_per(info.quantity.unit);
  RunOptions quiet = o.run;
  quiet.silent = true;
  const PointCloud again = decoded_once(cloud, PointFields::Return | PointFields::Class);
  if (!any_open(again, o.anew, quiet))
    return relabelled(cloud, [](PointInfo& i) {
      i.notes.push_back(
          "all its points have a class already, so ground and noise were not looked for; --anew looks anew");
    });
  const PointTally there = tally(again, quiet);
  const GroundScale scale =
      info.crs && !there.bounds.empty() ? GroundRuler(info.crs).at(there.bounds.centre()) : GroundScale{};
  const double area =
      there.bounds.empty() ? 1 : std::max(1e-9, there.bounds.width() * scale.x * there.bounds.height() * scale.y);
  const double spacing = std::sqrt(area / static_cast<double>(std::max<std::uint64_t>(1, there.count)));
  const double cube = std::max(kSmallestCube, 4 * spacing);
  std::shared_ptr<const PointMarks> noise;
  if (o.noise)
    noise = std::make_shared<const PointMarks>(
        Isolated(again, {cube / scale.x, cube / scale.y, cube / unit}, o.noise_neighbours, quiet).marks());
  Grid surface;
  if (o.ground || o.noise) surface = ground_surface(again, noise, spacing, o, quiet);
  std::optional<double> water;
  if (o.water) water = o.water->metres() / unit;
  auto source = std::make_shared<ChangedPoints>(
      cloud, PointFields::Class, PointFields::Class,
      [=, near = o.near.metres() / unit, ground = o.ground, anew = o.anew, band = kWaterBand / unit](
          std::size_t part, PointBatch& b, std::vector<std::uint8_t>&) {
        GridSampler s(surface);
        if (b.classification.empty()) b.classification.assign(b.size(), 1);
        for (std::size_t i = 0; i < b.size(); ++i) {
          if (!is_open(b.classification[i], anew)) continue;
          const double height = b.z[i] - s.at(b.x[i], b.y[i]);
          if (noise && noise->get(part, i))
            b.classification[i] = static_cast<std::uint8_t>(height < 0 ? kLowNoise : kHighNoise);
          else if (ground && water && std::abs(b.z[i] - *water) <= band)
            b.classification[i] = kWater;
          else if (ground)
            b.classification[i] = static_cast<std::uint8_t>(std::abs(height) <= near ? kGround : 1);
        }
      });
  source->info_to_change().notes.push_back("ground and noise classed by a filter");
  return PointCloud(source);
}

PointCloud above_surface(const PointCloud& cloud, const Grid& surface) {
  const PointInfo& info = cloud.info();
  if (!info.crs || !surface.frame().crs() || !info.crs.same_place(surface.frame().crs()))
    throw Error(ErrorCode::Refused, "the points and the surface are not in one known CRS", info.name,
                "reproject one of them first");
  if (!(info.quantity.heights == surface.quantity().heights) || info.quantity.unit != surface.quantity().unit)
    throw Error(ErrorCode::Refused,
                "the heights of the points and of the surface are not above the same reference in the same unit",
                info.name, "bring them together with --heights and --unit");
  auto source = std::make_shared<ChangedPoints>(cloud, PointFields::None, PointFields::None,
                                                [surface](std::size_t, PointBatch& b, std::vector<std::uint8_t>& keep) {
                                                  GridSampler s(surface);
                                                  for (std::size_t i = 0; i < b.size(); ++i) {
                                                    const double ground = s.at(b.x[i], b.y[i]);
                                                    b.z[i] -= ground;
                                                    keep[i] = !std::isnan(ground);
                                                  }
                                                });
  PointInfo& changed_info = source->info_to_change();
  changed_info.quantity.heights = HeightReference::named("height above ground");
  changed_info.notes.push_back("heights are above " + surface.info().name);
  if (changed_info.lattice) {
    changed_info.lattice->step[2] = std::min(changed_info.lattice->step[2], 0.001);
    changed_info.lattice->origin[2] = 0;
  }
  return PointCloud(source);
}

// ---- canopy

namespace {

// The highest of several grids of one frame; zero at least where the first has a value.
class HighestOf : public GridSource {
 public:
  HighestOf(std::vector<Grid> grids, GridInfo info) : grids_(std::move(grids)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    grids_[0].read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        if (out.row(r)[c] < 0) out.row(r)[c] = 0;
    for (std::size_t k = 1; k < grids_.size(); ++k) {
      const Block b = grids_[k].read(out.window);
      for (std::int64_t r = 0; r < out.window.rows; ++r)
        for (std::int64_t c = 0; c < out.window.cols; ++c)
          if (b.at(c, r) > out.row(r)[c]) out.row(r)[c] = b.at(c, r);
    }
  }

 private:
  std::vector<Grid> grids_;
  GridInfo info_;
};

}  // namespace

Grid canopy_height(const PointCloud& heights, Length cell, const RunOptions& run) {
  const PointInfo& info = heights.info();
  const double unit = metres_per(info.quantity.unit);
  const PointCloud first = has(info.fields, PointFields::Return)
                               ? select(heights, {.area = nullptr, .returns = Returns::First, .drop_noise = true})
                               : select(heights, {.area = nullptr, .drop_noise = true});
  RunOptions quiet = run;
  quiet.silent = true;
  const GriddedPoints all = grid_points(
      first, {.methods = {{PointMethod::Tin, 50}}, .cell = cell, .surface = SurfaceKind::FirstReturn, .run = quiet});
  std::vector<Grid> layers{all.grids[0]};
  const Frame frame = layers[0].frame();
  // Crowns are joined across a little more than the spacing, the gaps between them are not.
  const Length reach = Length::metres(std::max(1.5, 3 * all.spacing.metres()));
  double highest = 0;
  share_points<double>(
      first, PointFields::None, quiet,
      [&](const PointBatch& b, double& there) {
        for (double z : b.z) there = std::max(there, z * unit);
      },
      [&](double there) { highest = std::max(highest, there); });
  for (double from : {2.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0, 40.0}) {
    if (from >= highest) break;
    PointSelection s{.area = nullptr};
    s.lowest = from / unit;
    layers.push_back(
        grid_points(select(first, s),
                    {.methods = {{PointMethod::Tin, 50}}, .frame = frame, .longest_edge = reach, .run = quiet})
            .grids[0]);
  }
  GridInfo g = layers[0].info();
  g.name = "canopy";
  g.quantity.heights = HeightReference::named("height above ground");
  return Grid(std::make_shared<HighestOf>(std::move(layers), std::move(g)));
}

}  // namespace katoptra
