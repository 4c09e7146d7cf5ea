// Where water is split, ways through a tile are no chains that could be joined by their ends: a cell waits for all that
// comes down to it. Each tile passes on what it can; what crosses its border waits in the next tile's box until that is
// taken up again, round by round. Amounts are whole numbers, added in any order, and a cell is split when it is
// complete: the result does not depend on tiles or threads.
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "down.hpp"
#include "terrain/words.hpp"

namespace katoptra {
namespace {

using Shares = std::array<double, 8>;

// How the water of a cell is split among its neighbours.
class Splitter {
 public:
  Splitter(const Flow& flow, Neighbours neighbours, const Window& tile)
      : neighbours_(neighbours),
        z_(flow.surface().read(tile.grown(2))),
        code_(FlowAccess::planes(flow).directions(tile.grown(1))),
        wide_(tile.grown(1)) {
    const Frame& f = flow.surface().frame();
    const GroundRuler ruler(f.crs());
    for (std::int64_t r = 0; r < wide_.rows; ++r) {
      const GroundScale k = ruler.at(f.centre(static_cast<double>(f.cols()) / 2, static_cast<double>(wide_.row + r)));
      size_.push_back({k.x * f.cell().x, k.y * f.cell().y});
    }
  }

  // Cell of the tile and one more around it: (0, 0) is the tile's first.
  std::uint8_t code(std::int64_t c, std::int64_t r) const {
    return code_[static_cast<std::size_t>((r + 1) * wide_.cols + c + 1)];
  }
  // Which neighbours get water; of several the parts add up to one.
  Shares shares(std::int64_t c, std::int64_t r) const {
    Shares s{};
    const std::uint8_t code = this->code(c, r);
    if (!runs_on(code)) return s;
    const bool falls = height(c, r, code - 1) < own(c, r);
    if (neighbours_ == Neighbours::One || !falls)
      s[code - 1] = 1;
    else if (neighbours_ == Neighbours::Several)
      split_by_slope(c, r, s);
    else
      split_by_angle(c, r, s);
    return s;
  }

 private:
  double own(std::int64_t c, std::int64_t r) const { return static_cast<double>(z_.at(c + 2, r + 2)); }
  double height(std::int64_t c, std::int64_t r, int k) const {
    return static_cast<double>(z_.at(c + 2 + kColStep[k], r + 2 + kRowStep[k]));
  }
  double distance(std::int64_t r, int k) const {
    const auto& [x, y] = size_[static_cast<std::size_t>(r + 1)];
    return k % 2 ? std::hypot(x, y) : k % 4 ? x : y;
  }

  void split_by_slope(std::int64_t c, std::int64_t r, Shares& s) const {
    constexpr double kPower = 1.1;
    double sum = 0;
    for (int k = 0; k < 8; ++k) {
      const double fall = (own(c, r) - height(c, r, k)) / distance(r, k);
      if (fall > 0) sum += s[static_cast<std::size_t>(k)] = std::pow(fall, kPower);
    }
    for (double& v : s) v /= sum;
  }

  // Each triangle has the cell, a neighbour straight ahead and one beside that.
  void split_by_angle(std::int64_t c, std::int64_t r, Shares& s) const {
    double steepest = 0;
    for (int straight = 0; straight < 8; straight += 2)
      for (const int beside : {(straight + 1) % 8, (straight + 7) % 8}) {
        const double e1 = height(c, r, straight), e2 = height(c, r, beside), d1 = distance(r, straight),
                     d2 = distance(r, (straight + 2) % 8), widest = std::atan2(d2, d1);
        if (std::isnan(e1) || std::isnan(e2)) continue;
        const double ahead = (own(c, r) - e1) / d1, aside = (e1 - e2) / d2;
        double angle = std::atan2(aside, ahead), fall = std::hypot(ahead, aside);
        if (angle < 0) {
          angle = 0;
          fall = ahead;
        } else if (angle > widest) {
          angle = widest;
          fall = (own(c, r) - e2) / std::hypot(d1, d2);
        }
        if (!(fall > steepest)) continue;
        steepest = fall;
        s = {};
        s[static_cast<std::size_t>(straight)] = 1 - angle / widest;
        s[static_cast<std::size_t>(beside)] = angle / widest;
      }
    for (int k = 0; k < 8; ++k)
      if (height(c, r, k) >= own(c, r)) s[static_cast<std::size_t>(k)] = 0;
    double sum = 0;
    for (const double v : s) sum += v;
    // Beside voids no whole triangle may fall: then all takes the direction.
    if (sum > 0) {
      for (double& v : s) v /= sum;
    } else {
      s[code(c, r) - 1] = 1;
    }
  }

  Neighbours neighbours_;
  Block z_;
  std::vector<std::uint8_t> code_;
  Window wide_;
  std::vector<std::pair<double, double>> size_;  // metres of a cell in the middle column, by row
};

struct Arriving {
  std::int64_t cell, amount;  // cell: number in the grid
};

class Spreading {
 public:
  Spreading(const Flow& flow, const UpstreamOptions& o)
      : flow_(flow),
        options_(o),
        planes_(FlowAccess::planes(flow)),
        areas_(planes_.frame),
        waiting_(planes_.frame.cols(), planes_.frame.rows(), name()),
        amount_(std::make_shared<ScratchPlane<std::int64_t>>(planes_.frame.cols(), planes_.frame.rows(), name())) {}

  Grid run() {
    choose_step();
    std::vector<std::size_t> round;
    for (std::size_t t = 0; t < planes_.tiling.count(); ++t) round.push_back(t);
    for (bool first = true; !round.empty(); first = false) round = visit(round, first);
    return upstream_plane(flow_, amount_, step_, options_.weights ? "weighted m2" : "m2");
  }

 private:
  const std::string& name() const { return flow_.surface().info().name; }

  // With weights so that the largest, everywhere, still stays below 2^61.
  void choose_step() {
    step_ = planes_.area_step;
    if (!options_.weights) return;
    double most = 0;
    for_each_band(*options_.weights, Planes::Values, options_.run, [&](const Block& b) {
      for (std::int64_t r = 0; r < b.window().rows; ++r)
        for (std::int64_t c = 0; c < b.window().cols; ++c) {
          const auto v = static_cast<double>(b.at(c, r));
          if (v < 0 || std::isinf(v))
            throw Error(ErrorCode::BadArgument, fmt::format("a weight of {:g} cannot be one", v),
                        options_.weights->info().name, "weights are 0 or more");
          most = std::max(most, std::isnan(v) ? 0 : v);
        }
    });
    if (most > 0) step_ *= std::exp2(std::ceil(std::log2(most)));
  }

  std::vector<std::int64_t> own_amounts(const Window& w) const {
    if (!options_.weights) return whole_areas(areas_, w, step_);
    const Block weights = options_.weights->read(w);
    return whole_areas(areas_, w, step_, &weights);
  }

  // Cells that run to each cell, from wherever.
  std::vector<std::uint8_t> all_waiting(const Splitter& split, const Window& w) const {
    std::vector<std::uint8_t> out(static_cast<std::size_t>(w.cells()), 0);
    for (std::int64_t r = -1; r <= w.rows; ++r)
      for (std::int64_t c = -1; c <= w.cols; ++c) {
        const Shares s = split.shares(c, r);
        for (int k = 0; k < 8; ++k) {
          const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
          if (s[static_cast<std::size_t>(k)] > 0 && nc >= 0 && nr >= 0 && nc < w.cols && nr < w.rows)
            ++out[static_cast<std::size_t>(nr * w.cols + nc)];
        }
      }
    return out;
  }

  // Tiles that something has come to.
  std::vector<std::size_t> visit(const std::vector<std::size_t>& round, bool first) {
    std::map<std::size_t, std::vector<Arriving>> boxes;
    boxes.swap(boxes_);
    parallel_ordered(
        round.size(), static_cast<std::size_t>(2 * thread_count(options_.run)), options_.run,
        [&](std::size_t i) -> std::shared_ptr<void> {
          const auto box = boxes.find(round[i]);
          return std::make_shared<std::vector<Arriving>>(pass_on(
              planes_.tiling.window(round[i]), first, box == boxes.end() ? std::vector<Arriving>() : box->second));
        },
        [&](std::size_t, const std::shared_ptr<void>& made) {
          for (const Arriving& a : *static_cast<std::vector<Arriving>*>(made.get()))
            boxes_[planes_.tiling.tile_of(a.cell % planes_.frame.cols(), a.cell / planes_.frame.cols())].push_back(a);
        });
    std::vector<std::size_t> next;
    for (const auto& [tile, box] : boxes_) next.push_back(tile);
    return next;
  }

  std::vector<Arriving> pass_on(const Window& w, bool first, const std::vector<Arriving>& box) {
    const Splitter split(flow_, options_.neighbours, w);
    std::vector<std::int64_t> amount = first ? own_amounts(w) : amount_->read(w, 0);
    std::vector<std::uint8_t> waiting = first ? all_waiting(split, w) : waiting_.read(w, 0);
    std::vector<std::size_t> ready;
    for (std::size_t i = 0; first && i < waiting.size(); ++i)
      if (waiting[i] == 0) ready.push_back(i);
    const auto arrive = [&](std::size_t i, std::int64_t a) {
      amount[i] += a;
      if (--waiting[i] == 0) ready.push_back(i);
    };
    for (const Arriving& a : box)
      arrive(static_cast<std::size_t>((a.cell / planes_.frame.cols() - w.row) * w.cols + a.cell % planes_.frame.cols() -
                                      w.col),
             a.amount);
    std::vector<Arriving> out;
    while (!ready.empty()) {
      const std::size_t i = ready.back();
      ready.pop_back();
      const auto c = static_cast<std::int64_t>(i) % w.cols, r = static_cast<std::int64_t>(i) / w.cols;
      const Shares s = split.shares(c, r);
      const auto largest = static_cast<std::size_t>(std::max_element(s.begin(), s.end()) - s.begin());
      std::int64_t left = amount[i];
      std::array<std::int64_t, 8> parts{};
      for (std::size_t k = 0; k < 8; ++k) {
        if (k == largest || !(s[k] > 0)) continue;
        parts[k] = static_cast<std::int64_t>(static_cast<double>(amount[i]) * s[k]);
        left -= parts[k];
      }
      parts[largest] = left;
      for (std::size_t k = 0; k < 8; ++k) {
        if (!(s[k] > 0)) continue;
        const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
        if (nc >= 0 && nr >= 0 && nc < w.cols && nr < w.rows)
          arrive(static_cast<std::size_t>(nr * w.cols + nc), parts[k]);
        else
          out.push_back({planes_.number(w.col + nc, w.row + nr), parts[k]});
      }
    }
    amount_->write(w, amount.data());
    waiting_.write(w, waiting.data());
    return out;
  }

  const Flow& flow_;
  const UpstreamOptions& options_;
  const FlowPlanes& planes_;
  CellAreas areas_;
  ScratchPlane<std::uint8_t> waiting_;
  std::shared_ptr<ScratchPlane<std::int64_t>> amount_;
  std::map<std::size_t, std::vector<Arriving>> boxes_;
  double step_ = 1;
};

constexpr const char* kNeighbours[] = {"one", "any-angle", "several"};

}  // namespace

Neighbours parse_neighbours(std::string_view text) {
  return value_of<Neighbours>(kNeighbours, text, "is no way to run down");
}

Grid upstream(const Flow& flow, const UpstreamOptions& options) {
  if (options.weights && options.weights->frame() != flow.surface().frame())
    throw Error(ErrorCode::BadArgument, "its cells are others than those of the surface", options.weights->info().name,
                "bring it to them with reproject --onto");
  if (options.neighbours == Neighbours::One && !options.weights) return flow.upstream_area();
  return Spreading(flow, options).run();
}

}  // namespace katoptra
