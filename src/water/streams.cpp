#include "katoptra/water/streams.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <unordered_map>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/shared_parts.hpp"
#include "down.hpp"

namespace katoptra {
namespace {

struct StreamCell {
  std::int64_t number;
  float area, height;
  std::uint8_t direction;
  bool cut_off;
};
constexpr std::size_t kBytesPerStreamCell = 40;

void require_area(const Flow& flow, double area) {
  const GroundSpacing s = ground_spacing(flow.surface().frame());
  const double cell = s.x.metres() * s.y.metres();
  if (!(area > cell))
    throw Error(ErrorCode::BadArgument,
                fmt::format("streams from {:g} m2 would begin in every cell, which is {:.4g} m2", area, cell),
                "streams", "take a larger area, for instance 1ha");
}

// Sorted by number.
std::vector<StreamCell> stream_cells(const Flow& flow, const StreamOptions& o) {
  const FlowPlanes& p = FlowAccess::planes(flow);
  const auto least = static_cast<float>(o.from_area);
  std::vector<StreamCell> all;
  using Cells = std::vector<StreamCell>;
  share_parts<Cells>(
      p.tiling.count(), o.run,
      [&](std::size_t t) {
        const Window w = p.tiling.window(t);
        const std::vector<float> area = p.area.read(w, 0);
        Cells out;
        if (std::none_of(area.begin(), area.end(), [&](float a) { return a >= least; })) return out;
        const std::vector<std::uint8_t> direction = p.direction->read(w, kVoidCell);
        const Block z = flow.surface().read(w);
        for (std::int64_t r = 0; r < w.rows; ++r)
          for (std::int64_t c = 0; c < w.cols; ++c) {
            const auto i = static_cast<std::size_t>(r * w.cols + c);
            const std::uint8_t code = direction[i] & kCodeBits;
            if (area[i] < least || code == kVoidCell) continue;
            out.push_back(
                {p.number(w.col + c, w.row + r), area[i], z.at(c, r), code, (direction[i] & kCutOffBit) != 0});
          }
        return out;
      },
      [&](std::size_t, const Cells& part) {
        all.insert(all.end(), part.begin(), part.end());
        if (all.size() * kBytesPerStreamCell > std::max<std::size_t>(o.run.memory, 64u << 20))
          throw Error(ErrorCode::TooLarge, fmt::format("more than {} cells are streams", all.size()),
                      flow.surface().info().name, "take streams from a larger area, or give more --memory");
      });
  std::sort(all.begin(), all.end(), [](const StreamCell& a, const StreamCell& b) { return a.number < b.number; });
  return all;
}

class Net {
 public:
  Net(const Flow& flow, std::vector<StreamCell> cells)
      : flow_(flow),
        planes_(FlowAccess::planes(flow)),
        cells_(std::move(cells)),
        next_(cells_.size(), kNone),
        above_(cells_.size(), 0) {
    for (std::size_t i = 0; i < cells_.size(); ++i) {
      if (!runs_on(cells_[i].direction)) continue;
      next_[i] = find(cells_[i].number + kRowStep[cells_[i].direction - 1] * planes_.frame.cols() +
                      kColStep[cells_[i].direction - 1]);
      ++above_[next_[i]];
    }
  }

  std::vector<Reach> reaches() {
    std::vector<Reach> out;
    std::vector<std::size_t> joins;  // the cell at which each reach ends
    std::unordered_map<std::size_t, std::int64_t> begins;
    for (std::size_t i = 0; i < cells_.size(); ++i) {
      if (above_[i] == 1) continue;
      out.push_back(reach_from(i, std::ssize(out) + 1, &joins));
      begins[i] = out.back().number;
    }
    for (std::size_t k = 0; k < out.size(); ++k)
      if (joins[k] != kNone) out[k].next = begins.at(joins[k]);
    orders(out);
    return out;
  }

 private:
  static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
  std::size_t find(std::int64_t number) const {
    return static_cast<std::size_t>(std::lower_bound(cells_.begin(), cells_.end(), number,
                                                     [](const StreamCell& c, std::int64_t n) { return c.number < n; }) -
                                    cells_.begin());
  }

  Reach reach_from(std::size_t first, std::int64_t number, std::vector<std::size_t>* joins) const {
    Reach r{.number = number};
    std::int64_t steps = 0;
    std::size_t i = first, last = first;
    add_point(r, i);
    while (next_[i] != kNone) {
      const std::int64_t row = cells_[i].number / planes_.frame.cols();
      steps += lengths_.at(row, cells_[i].direction);
      last = i;
      i = next_[i];
      add_point(r, i);
      if (above_[i] != 1) break;
    }
    const bool joined = i != first && above_[i] != 1;
    joins->push_back(joined ? i : kNone);
    const StreamCell& end = cells_[joined ? last : i];
    r.upstream_area = static_cast<double>(end.area);
    r.cut_off = end.cut_off;
    r.length = static_cast<double>(steps) / kLengthSteps;
    r.from_height = r.heights.front();
    r.to_height = r.heights.back();
    const double vertical = metres_per(flow_.surface().quantity().unit);
    r.slope = r.length > 0 ? (r.from_height - r.to_height) * vertical / r.length : 0;
    return r;
  }

  void add_point(Reach& r, std::size_t i) const {
    const std::int64_t cols = planes_.frame.cols(), n = cells_[i].number;
    r.line.push_back(planes_.frame.centre(static_cast<double>(n % cols), static_cast<double>(n / cols)));
    r.heights.push_back(static_cast<double>(cells_[i].height));
  }

  // A reach is done when all that run into it are.
  static void orders(std::vector<Reach>& reaches) {
    std::vector<int> waiting(reaches.size() + 1, 0), most(reaches.size() + 1, 0), times(reaches.size() + 1, 0);
    std::vector<std::int64_t> sources(reaches.size() + 1, 0);
    for (const Reach& r : reaches) ++waiting[static_cast<std::size_t>(r.next)];
    std::vector<std::size_t> ready;
    for (std::size_t i = 0; i < reaches.size(); ++i)
      if (waiting[i + 1] == 0) ready.push_back(i);
    while (!ready.empty()) {
      Reach& r = reaches[ready.back()];
      ready.pop_back();
      const auto own = static_cast<std::size_t>(r.number), to = static_cast<std::size_t>(r.next);
      r.strahler = most[own] == 0 ? 1 : most[own] + (times[own] > 1 ? 1 : 0);
      r.shreve = std::max<std::int64_t>(1, sources[own]);
      if (to == 0) continue;
      sources[to] += r.shreve;
      if (r.strahler > most[to]) {
        most[to] = r.strahler;
        times[to] = 1;
      } else if (r.strahler == most[to]) {
        ++times[to];
      }
      if (--waiting[to] == 0) ready.push_back(to - 1);
    }
  }

  const Flow& flow_;
  const FlowPlanes& planes_;
  StepLengths lengths_{planes_.frame, planes_.frame.window()};
  std::vector<StreamCell> cells_;
  std::vector<std::size_t> next_;
  std::vector<std::uint8_t> above_;  // stream cells that run into it
};

}  // namespace

StreamNet streams(const Flow& flow, const StreamOptions& options) {
  require_area(flow, options.from_area);
  return {Net(flow, stream_cells(flow, options)).reaches(), options.from_area};
}

Layer stream_layer(const StreamNet& net, const Flow& flow) {
  Layer layer{
      .name = "streams", .crs = flow.surface().frame().crs(), .features = {}, .unit = flow.surface().quantity().unit};
  for (const Reach& r : net.reaches) {
    if (r.line.size() < 2) continue;
    layer.features.push_back({r.line,
                              {{"number", r.number},
                               {"next", r.next},
                               {"strahler", std::int64_t{r.strahler}},
                               {"shreve", r.shreve},
                               {"upstream_m2", r.upstream_area},
                               {"length_m", r.length},
                               {"from_height", r.from_height},
                               {"to_height", r.to_height},
                               {"unit", unit_name(flow.surface().quantity())},
                               {"slope", r.slope},
                               {"cut_off", std::int64_t{r.cut_off}}},
                              r.heights});
  }
  return layer;
}

LineString way_down(const Flow& flow, Point from) {
  const FlowPlanes& p = FlowAccess::planes(flow);
  const Frame& f = p.frame;
  const auto cell = cell_at(f, from);
  auto [col, row] = cell.value_or(std::pair<std::int64_t, std::int64_t>{0, 0});
  const auto code_at = [&](std::int64_t c, std::int64_t r) { return p.directions({c, r, 1, 1})[0]; };
  if (!cell || code_at(col, row) == kVoidCell)
    throw Error(
        ErrorCode::BadArgument,
        fmt::format("the place {:.10g},{:.10g} lies {}", from.x, from.y, cell ? "on a void" : "outside the surface"),
        flow.surface().info().name, "give a place on it");
  LineString line{f.centre(static_cast<double>(col), static_cast<double>(row))};
  for (std::uint8_t k = code_at(col, row); runs_on(k); k = code_at(col, row)) {
    col += kColStep[k - 1];
    row += kRowStep[k - 1];
    line.push_back(f.centre(static_cast<double>(col), static_cast<double>(row)));
  }
  return line;
}

namespace {

enum class Along { Height, Distance };

// Found when it is made, and kept in a temporary file.
class AlongSource final : public GridSource {
 public:
  AlongSource(const Flow& flow, GridInfo info, const StreamOptions& o, Along what)
      : flow_(flow), info_(std::move(info)), plane_(info_.frame.cols(), info_.frame.rows(), info_.name) {
    const FlowPlanes& p = FlowAccess::planes(flow);
    const std::vector<StreamCell> cells = stream_cells(flow, o);
    const auto least = static_cast<float>(o.from_area);
    find_arrivals(
        p, o.run,
        [&](const Window& w, std::vector<std::uint8_t>& station) {
          const std::vector<float> area = p.area.read(w, 0);
          for (std::size_t i = 0; i < area.size(); ++i) station[i] = area[i] >= least;
        },
        [&](const Window& w, const std::vector<Arrival>& arrivals) {
          std::vector<float> out(arrivals.size(), kVoid);
          const Block z = flow_.surface().read(w);
          for (std::size_t i = 0; i < out.size(); ++i) {
            if (arrivals[i].station < 0) continue;
            if (what == Along::Distance) {
              out[i] = static_cast<float>(static_cast<double>(arrivals[i].steps) / kLengthSteps);
              continue;
            }
            const auto at = std::lower_bound(cells.begin(), cells.end(), arrivals[i].station,
                                             [](const StreamCell& c, std::int64_t n) { return c.number < n; });
            out[i] = z.row(0)[i] - at->height;
          }
          plane_.write(w, out.data());
        });
  }
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    if (out.origin) flow_.surface().read_into(out);
    const std::vector<float> cells = plane_.read(out.window, kVoid);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      std::copy_n(cells.begin() + r * out.window.cols, out.window.cols, out.row(r));
  }

 private:
  Flow flow_;
  GridInfo info_;
  ScratchPlane<float> plane_;
};

Grid along(const Flow& flow, const StreamOptions& o, Along what) {
  require_area(flow, o.from_area);
  GridInfo info = flow.surface().info();
  info.quantity.kind = QuantityKind::Unknown;
  info.quantity.other_unit = what == Along::Height ? symbol(flow.surface().quantity().unit) : "m";
  info.type = SampleType::Float32;
  info.file_void.reset();
  return Grid(std::make_shared<AlongSource>(flow, std::move(info), o, what));
}

}  // namespace

Grid height_above_streams(const Flow& flow, const StreamOptions& options) {
  return along(flow, options, Along::Height);
}
Grid distance_to_streams(const Flow& flow, const StreamOptions& options) {
  return along(flow, options, Along::Distance);
}

}  // namespace katoptra
