// A ray is followed in legs of kLeg steps, each over a window of its own: memory does not grow with how far it goes.
// The highest height of every tile is kept once it was asked for, so that legs over ground that is too low to throw a
// shadow here are passed without being read, and a ray ends at the edge of the grid at the latest. What a cell meets on
// a leg depends on the steps alone, not on the window: shadows do not break at the borders of blocks.
#include "shadows.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <memory>
#include <utility>

#include "base/clones.hpp"
#include "sight_lines.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kLeg = 256, kTile = 256;
constexpr float kBeyond = std::numeric_limits<float>::infinity();

class ShadowSource final : public GridSource {
 public:
  ShadowSource(Grid input, GridInfo info, Angle azimuth, Angle altitude, double vertical)
      : input_(std::move(input)),
        info_(std::move(info)),
        ruler_(info_.frame.crs()),
        azimuth_(azimuth.radians()),
        tangent_(std::tan(altitude.radians())),
        vertical_(vertical),
        tiles_across_((info_.frame.cols() + kTile - 1) / kTile),
        tops_(std::make_unique<std::atomic<float>[]>(
            static_cast<std::size_t>(tiles_across_ * ((info_.frame.rows() + kTile - 1) / kTile)))) {
    for (std::int64_t i = 0; i < tiles_across_ * ((info_.frame.rows() + kTile - 1) / kTile); ++i)
      tops_[static_cast<std::size_t>(i)] = std::nanf("");
  }
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Block own = input_.read(w, out.planes());
    const Stretches stretches(info_.frame, ruler_, w);
    float lowest = kBeyond;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) lowest = own.at(c, r) < lowest ? own.at(c, r) : lowest;
    std::vector<float> steepest(static_cast<std::size_t>(w.cells()), -kBeyond);
    for (std::int64_t first = 1; lowest < kBeyond; first += kLeg)
      if (!follow(own, stretches, w, first, lowest, steepest)) break;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for (std::int64_t c = 0; c < w.cols; ++c)
        out.row(r)[c] = std::isnan(own.at(c, r))                                                             ? kVoid
                        : static_cast<double>(steepest[static_cast<std::size_t>(r * w.cols + c)]) > tangent_ ? 1.0f
                                                                                                             : 2.0f;
      if (out.origin) std::copy_n(own.origin_row(r), w.cols, out.origin_row(r));
    }
  }

 private:
  // Where the cells of the window look on the steps of a leg, and how much its rays have risen when it begins.
  struct Leg {
    std::int64_t west = std::numeric_limits<std::int64_t>::max(), north = west, east = -west, south = -west;
    double rise = std::numeric_limits<double>::infinity();  // in the unit of the heights
  };

  Leg leg_of(const Stretches& stretches, const Window& w, std::int64_t first) const {
    Leg leg;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const SightLine line(azimuth_, stretches.at(r, s));
        for (const std::int64_t k : {first, first + kLeg - 1}) {
          const SightLine::Place p = line.at(k);
          leg.west = std::min(leg.west, stretches.from(s) + p.col);
          leg.east = std::max(leg.east, stretches.end(s) + p.col + 1);
          leg.north = std::min(leg.north, r + p.row);
          leg.south = std::max(leg.south, r + p.row + 2);
        }
        leg.rise = std::min(leg.rise, static_cast<double>(first) * line.metres() * tangent_ / vertical_);
      }
    return leg;
  }

  // False when nothing lies that far.
  bool follow(const Block& own, const Stretches& stretches, const Window& w, std::int64_t first, float lowest,
              std::vector<float>& steepest) const {
    const Leg leg = leg_of(stretches, w, first);
    const Window all{w.col + leg.west, w.row + leg.north, leg.east - leg.west, leg.south - leg.north},
        there = all.intersected(info_.frame.window());
    if (there.cells() == 0) return false;
    if (static_cast<double>(top(there)) <= static_cast<double>(lowest) + leg.rise) return true;
    const Block in = input_.read(all);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const std::int64_t from = stretches.from(s), n = stretches.end(s) - from;
        look_along(in, SightLine(azimuth_, stretches.at(r, s)), first, first + kLeg - 1, vertical_, own.row(r) + from,
                   {w.col + from - all.col, w.row + r - all.row, n},
                   steepest.data() + static_cast<std::ptrdiff_t>(r * w.cols + from), nullptr);
      }
    return true;
  }

  // Of the tiles that meet a window.
  float top(const Window& w) const {
    float most = -kBeyond;
    for (std::int64_t row = w.row / kTile; row <= (w.row + w.rows - 1) / kTile; ++row)
      for (std::int64_t col = w.col / kTile; col <= (w.col + w.cols - 1) / kTile; ++col)
        most = std::max(most, top_of_tile(col, row));
    return most;
  }

  // Found by whoever asks first; two who ask at once find the same.
  float top_of_tile(std::int64_t col, std::int64_t row) const {
    std::atomic<float>& kept = tops_[static_cast<std::size_t>(row * tiles_across_ + col)];
    if (const float known = kept.load(std::memory_order_relaxed); !std::isnan(known)) return known;
    const Window w = Window{col * kTile, row * kTile, kTile, kTile}.intersected(info_.frame.window());
    const Block b = input_.read(w);
    float most = -kBeyond;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) most = b.at(c, r) > most ? b.at(c, r) : most;
    kept.store(most, std::memory_order_relaxed);
    return most;
  }

  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  double azimuth_, tangent_, vertical_;
  std::int64_t tiles_across_;
  std::unique_ptr<std::atomic<float>[]> tops_;
};

}  // namespace

Grid cast_shadows(const Grid& surface, GridInfo info, Angle azimuth, Angle altitude, double vertical) {
  return Grid(std::make_shared<ShadowSource>(surface, std::move(info), azimuth, altitude, vertical));
}

}  // namespace katoptra
