// Fewer points: one a cell, or none nearer than a distance. Points are sorted into tiles of cells first, so that memory
// does not grow with the area; tiles are then worked on side by side.
#include <algorithm>
#include <cmath>
#include <unordered_map>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/points/select.hpp"

#include "base/heaps.hpp"
#include "derived.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kTileEdge = 256;  // cells along a tile

struct Candidate {
  double x, y;  // in cells
  double measure;
  PointPlace place;
};
struct Tile {
  std::int64_t col = 0, row = 0;
  std::uint64_t heap = 0;
};
using Places = std::vector<PointPlace>;

// Places that lie beyond anything on earth share the outermost cells.
std::int64_t cell_of(double v) {
  constexpr double kFarthest = 0x1p38;
  return std::isnan(v) ? 0 : static_cast<std::int64_t>(std::clamp(std::floor(v), -kFarthest, kFarthest - 1));
}
std::int64_t tile_of(std::int64_t cell) { return cell >= 0 ? cell / kTileEdge : (cell + 1) / kTileEdge - 1; }

// Points that stay, by their cell, so that those near a place are found.
class KeptPoints {
 public:
  void add(Point p) { by_cell_[heap_of(cell_of(p.x), cell_of(p.y))].push_back(p); }
  bool has_within_a_cell(Point p) const {
    for (std::int64_t dc = -1; dc <= 1; ++dc)
      for (std::int64_t dr = -1; dr <= 1; ++dr) {
        const auto it = by_cell_.find(heap_of(cell_of(p.x) + dc, cell_of(p.y) + dr));
        if (it == by_cell_.end()) continue;
        for (const Point& q : it->second)
          if ((p.x - q.x) * (p.x - q.x) + (p.y - q.y) * (p.y - q.y) < 1) return true;
      }
    return false;
  }

 private:
  std::unordered_map<std::uint64_t, std::vector<Point>> by_cell_;
};

class Thinner {
 public:
  Thinner(const PointCloud& cloud, const Thinning& t, double cell_x, double cell_y, const RunOptions& run)
      : cloud_(cloud),
        t_(t),
        cell_x_(cell_x),
        cell_y_(cell_y),
        run_(run),
        candidates_(run.memory, cloud.info().name),
        stay_(cloud) {
    map_points(
        cloud, PointFields::None, run,
        [&](std::size_t part, PointBatch& b) -> std::shared_ptr<void> { return sorted(part, b); },
        [&](std::shared_ptr<void> batch) { candidates_.add(*static_cast<const HeapBatch<Candidate>*>(batch.get())); });
    std::vector<Tile> tiles;
    for (std::uint64_t heap : candidates_.numbers())
      tiles.push_back({static_cast<std::int32_t>(heap >> 32), static_cast<std::int32_t>(heap), heap});
    if (t.keep == ThinBy::Spacing)
      choose_apart(tiles);
    else
      choose_best(tiles);
  }
  const PointMarks& stay() const { return stay_; }

 private:
  std::shared_ptr<HeapBatch<Candidate>> sorted(std::size_t part, const PointBatch& b) const {
    auto batch = std::make_shared<HeapBatch<Candidate>>();
    for (std::size_t k = 0; k < b.size(); ++k) {
      Candidate c{
          b.x[k] / cell_x_, b.y[k] / cell_y_, 0, {static_cast<std::uint32_t>(part), static_cast<std::uint32_t>(k)}};
      c.measure = t_.keep == ThinBy::Lowest    ? b.z[k]
                  : t_.keep == ThinBy::Highest ? -b.z[k]
                                               : std::hypot(c.x - std::floor(c.x) - 0.5, c.y - std::floor(c.y) - 0.5);
      batch->add(heap_of(tile_of(cell_of(c.x)), tile_of(cell_of(c.y))), c);
    }
    return batch;
  }
  void mark(const Places& places) {
    for (const PointPlace& p : places) stay_.set(p.part, p.index);
  }

  // Of each cell the best one; among equal ones the first.
  void choose_best(const std::vector<Tile>& tiles) {
    parallel_ordered(
        tiles.size(), 4 * static_cast<std::size_t>(thread_count(run_)), run_,
        [&](std::size_t i) {
          std::vector<Candidate> all;
          candidates_.read(tiles[i].heap, all);
          std::vector<const Candidate*> best(kTileEdge * kTileEdge, nullptr);
          for (const Candidate& c : all) {
            const auto cell = static_cast<std::size_t>((cell_of(c.y) - tiles[i].row * kTileEdge) * kTileEdge +
                                                       cell_of(c.x) - tiles[i].col * kTileEdge);
            if (!best[cell] || c.measure < best[cell]->measure) best[cell] = &c;
          }
          auto places = std::make_shared<Places>();
          for (const Candidate* c : best)
            if (c) places->push_back(c->place);
          return std::static_pointer_cast<void>(places);
        },
        [&](std::size_t, std::shared_ptr<void> places) { mark(*static_cast<const Places*>(places.get())); });
  }

  // Tiles in four turns: those of a turn do not touch one another, and see what stayed at the rims of earlier ones.
  void choose_apart(const std::vector<Tile>& tiles) {
    struct Result {
      Places places;
      std::vector<Point> rim;
    };
    std::unordered_map<std::uint64_t, std::vector<Point>> rims;
    for (std::int64_t turn = 0; turn < 4; ++turn) {
      std::vector<Tile> now;
      for (const Tile& t : tiles)
        if ((t.col & 1) + 2 * (t.row & 1) == turn) now.push_back(t);
      std::vector<std::vector<Point>> new_rims(now.size());
      parallel_ordered(
          now.size(), 4 * static_cast<std::size_t>(thread_count(run_)), run_,
          [&](std::size_t i) {
            const Tile& t = now[i];
            KeptPoints kept;
            for (std::int64_t dc = -1; dc <= 1; ++dc)
              for (std::int64_t dr = -1; dr <= 1; ++dr)
                if (const auto it = rims.find(heap_of(t.col + dc, t.row + dr)); it != rims.end())
                  for (const Point& p : it->second) kept.add(p);
            std::vector<Candidate> all;
            candidates_.read(t.heap, all);
            auto result = std::make_shared<Result>();
            for (const Candidate& c : all) {
              if (kept.has_within_a_cell({c.x, c.y})) continue;
              kept.add({c.x, c.y});
              result->places.push_back(c.place);
              if (is_at_rim(t, c)) result->rim.push_back({c.x, c.y});
            }
            return std::static_pointer_cast<void>(result);
          },
          [&](std::size_t i, std::shared_ptr<void> made) {
            auto& result = *static_cast<Result*>(made.get());
            mark(result.places);
            new_rims[i] = std::move(result.rim);
          });
      for (std::size_t i = 0; i < now.size(); ++i) rims[now[i].heap] = std::move(new_rims[i]);
    }
  }
  static bool is_at_rim(const Tile& t, const Candidate& c) {
    const double x = c.x - static_cast<double>(t.col * kTileEdge), y = c.y - static_cast<double>(t.row * kTileEdge);
    return x < 1 || y < 1 || x > kTileEdge - 1 || y > kTileEdge - 1;
  }

  PointCloud cloud_;
  Thinning t_;
  double cell_x_, cell_y_;
  RunOptions run_;
  Heaps<Candidate> candidates_;
  PointMarks stay_;
};

}  // namespace

PointCloud thinned(const PointCloud& cloud, const Thinning& t, const RunOptions& run) {
  const PointInfo& info = cloud.info();
  if (!(t.cell > Length()))
    throw Error(ErrorCode::BadArgument, "the cell to thin by must be larger than zero", info.name, "give it like 1m");
  const GroundScale scale =
      info.crs ? GroundRuler(info.crs).at(info.bounds.empty() ? Point{} : info.bounds.centre()) : GroundScale{};
  RunOptions quiet = run;
  quiet.silent = true;  // the pass that writes tells how far it is
  const Thinner thinner(cloud, t, t.cell.metres() / scale.x, t.cell.metres() / scale.y, quiet);
  return PointCloud(
      std::make_shared<ChangedPoints>(cloud, PointFields::None, PointFields::None,
                                      [stay = std::make_shared<const PointMarks>(thinner.stay())](
                                          std::size_t part, PointBatch& b, std::vector<std::uint8_t>& keep) {
                                        for (std::size_t i = 0; i < b.size(); ++i) keep[i] = stay->get(part, i);
                                      }));
}

}  // namespace katoptra
