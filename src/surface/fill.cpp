#include "katoptra/surface/fill.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <mutex>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"

namespace katoptra {
namespace {

enum class Treatment : std::uint8_t { Leave, Mean, Distance };

// Rim cells as columns of numbers, padded to whole lanes with points of no weight.
struct Rim {
  std::vector<float> x, y, z, n;  // n: how many cells a point stands for
  void add(float px, float py, float pz, float count) {
    x.push_back(px);
    y.push_back(py);
    z.push_back(pz);
    n.push_back(count);
  }
};

constexpr std::int64_t kCluster = 16;
constexpr float kNear = 64;
constexpr std::size_t kLanes = 8;

// Sums of weights and weighted values over points in fixed lanes: the same bits on every machine.
KATOPTRA_CLONES void gather(const float* x, const float* y, const float* z, const float* n, std::size_t count, float px,
                            float py, float* weight, float* sum) {
  float w[kLanes] = {}, s[kLanes] = {};
  for (std::size_t i = 0; i < count; i += kLanes)
    for (std::size_t k = 0; k < kLanes; ++k) {
      const float dx = x[i + k] - px, dy = y[i + k] - py, q = n[i + k] / (dx * dx + dy * dy);
      w[k] += q;
      s[k] += q * z[i + k];
    }
  for (std::size_t k = 0; k < kLanes; ++k) {
    *weight += w[k];
    *sum += s[k];
  }
}

// The rim of one void, made when its first cell is asked for. Heights are kept relative to their mean, so that sums of
// many weights in single precision lose nothing that matters (below 1e-6 of the range of the rim).
class RimField {
 public:
  // `aspect`: the width of a cell over its height; columns are counted in heights of a cell.
  RimField(std::vector<std::array<float, 3>> cells, float aspect) : aspect_(aspect) {
    for (auto& c : cells) c[0] *= aspect;
    double mean = 0;
    for (const auto& c : cells) mean += static_cast<double>(c[2]);
    base_ = cells.empty() ? 0 : static_cast<float>(mean / static_cast<double>(cells.size()));
    for (auto& c : cells) c[2] -= base_;
    if (cells.size() <= kRimCells) {
      for (const auto& c : cells) all_.add(c[0], c[1], c[2], 1);
      pad(all_);
      return;
    }
    std::map<std::pair<std::int64_t, std::int64_t>, std::vector<std::array<float, 3>>> groups;
    for (const auto& c : cells)
      groups[{static_cast<std::int64_t>(c[1]) / kCluster, static_cast<std::int64_t>(c[0]) / kCluster}].push_back(c);
    for (auto& [key, members] : groups) {
      Rim rim;
      float x = 0, y = 0, z = 0;
      for (const auto& c : members) {
        rim.add(c[0], c[1], c[2], 1);
        x += c[0];
        y += c[1];
        z += c[2];
      }
      pad(rim);
      const auto n = static_cast<float>(members.size());
      clusters_.add(x / n, y / n, z / n, n);
      members_.push_back(std::move(rim));
    }
  }

  float at(float col, float py) const {
    const float px = col * aspect_;
    float weight = 0, sum = 0;
    if (members_.empty()) {
      gather(all_.x.data(), all_.y.data(), all_.z.data(), all_.n.data(), all_.x.size(), px, py, &weight, &sum);
    } else {
      for (std::size_t i = 0; i < members_.size(); ++i) {
        const float dx = clusters_.x[i] - px, dy = clusters_.y[i] - py, d2 = dx * dx + dy * dy;
        if (d2 > kNear * kNear) {
          weight += clusters_.n[i] / d2;
          sum += clusters_.n[i] / d2 * clusters_.z[i];
        } else {
          const Rim& m = members_[i];
          gather(m.x.data(), m.y.data(), m.z.data(), m.n.data(), m.x.size(), px, py, &weight, &sum);
        }
      }
    }
    return base_ + sum / weight;
  }

 private:
  static void pad(Rim& rim) {
    while (rim.x.size() % kLanes) rim.add(-1e6f, -1e6f, 0, 0);
  }
  float aspect_ = 1, base_ = 0;
  Rim all_, clusters_;
  std::vector<Rim> members_;
};

class FillSource final : public GridSource {
 public:
  FillSource(Grid input, GridInfo info, VoidMap map, std::vector<Treatment> treatment, std::uint32_t first_source)
      : input_(std::move(input)),
        info_(std::move(info)),
        map_(std::move(map)),
        treatment_(std::move(treatment)),
        first_source_(first_source),
        rims_(map_.regions.size()),
        once_(map_.regions.size()),
        ruler_(info_.frame.crs()) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Window& w = out.window;
    Block around;  // the input with a margin of three cells, read only when a mean needs it
    for (std::int64_t r = 0; r < w.rows; ++r)
      for_runs(w.row + r, w.col, w.col + w.cols, [&](const VoidRun& run, std::int64_t first, std::int64_t last) {
        const Treatment t = treatment_[run.region];
        if (t == Treatment::Leave) return;
        if (t == Treatment::Mean && around.window().empty()) around = input_.read(w.grown(3));
        for (std::int64_t c = first; c < last; ++c) {
          float z = t == Treatment::Mean ? window_mean(around, c - w.col + 3, r + 3) : kVoid;
          // In the middle of a void that is wider than the widest window there is nothing to take a mean of.
          const bool by_mean = !std::isnan(z);
          if (!by_mean) z = by_distance(run.region, c, w.row + r);
          out.row(r)[c - w.col] = z;
          if (out.origin && !std::isnan(z))
            out.origin_row(r)[c - w.col] = origin_code(first_source_ + (by_mean ? 0 : 1), How::Filled);
        }
      });
  }

 private:
  template <class Body>
  void for_runs(std::int64_t row, std::int64_t first, std::int64_t last, const Body& body) const {
    const auto begin = map_.runs.begin() + static_cast<std::ptrdiff_t>(map_.row_begin[static_cast<std::size_t>(row)]);
    const auto end = map_.runs.begin() + static_cast<std::ptrdiff_t>(map_.row_begin[static_cast<std::size_t>(row) + 1]);
    auto it = std::partition_point(begin, end, [&](const VoidRun& run) { return run.last <= first; });
    for (; it != end && it->first < last; ++it) body(*it, std::max(first, it->first), std::min(last, it->last));
  }

  static float window_mean(const Block& b, std::int64_t c, std::int64_t r) {
    double sum = 0;
    int known = 0;
    for (std::int64_t reach = 1; reach <= 3; ++reach) {
      sum = 0;
      known = 0;
      for (std::int64_t j = -reach; j <= reach; ++j)
        for (std::int64_t i = -reach; i <= reach; ++i)
          if (const float z = b.at(c + i, r + j); !std::isnan(z)) {
            sum += static_cast<double>(z);
            ++known;
          }
      if (2 * known >= (2 * reach + 1) * (2 * reach + 1)) break;
    }
    return known > 0 ? static_cast<float>(sum / known) : kVoid;
  }

  // How much wider a cell is on the ground than it is high, there: distances are those on the ground.
  float aspect_of(std::uint32_t region) const {
    const Window& box = map_.regions[region].box;
    const GroundScale s = ruler_.at(info_.frame.sub(box).bounds().centre());
    return static_cast<float>(info_.frame.cell().x * s.x / (info_.frame.cell().y * s.y));
  }

  float by_distance(std::uint32_t region, std::int64_t c, std::int64_t r) const {
    std::call_once(once_[region],
                   [&] { rims_[region] = std::make_unique<RimField>(rim_of(region), aspect_of(region)); });
    const Window& box = map_.regions[region].box;
    return rims_[region]->at(static_cast<float>(c - box.col + 1), static_cast<float>(r - box.row + 1));
  }

  // Known cells that touch the region (also over corners), in row order; places relative to its box, from 1.
  std::vector<std::array<float, 3>> rim_of(std::uint32_t region) const {
    const Window around = map_.regions[region].box.grown(1);
    constexpr std::int64_t kBand = 256;
    std::vector<std::array<float, 3>> cells;
    for (std::int64_t top = 0; top < around.rows; top += kBand) {
      const std::int64_t rows = std::min(kBand, around.rows - top);
      const Block block = input_.read({around.col, around.row + top, around.cols, rows});
      std::vector<std::uint8_t> touched(static_cast<std::size_t>(rows * around.cols), 0);
      for (std::int64_t row = around.row + top - 1; row <= around.row + top + rows; ++row) {
        if (row < 0 || row >= info_.frame.rows()) continue;
        for_runs(row, around.col, around.col + around.cols,
                 [&](const VoidRun& run, std::int64_t first, std::int64_t last) {
                   if (run.region != region) return;
                   for (std::int64_t j = std::max(row - 1, around.row + top);
                        j <= std::min(row + 1, around.row + top + rows - 1); ++j)
                     for (std::int64_t c = std::max(first - 1, around.col);
                          c < std::min(last + 1, around.col + around.cols); ++c)
                       touched[static_cast<std::size_t>((j - around.row - top) * around.cols + c - around.col)] = 1;
                 });
      }
      for (std::int64_t r = 0; r < rows; ++r)
        for (std::int64_t c = 0; c < around.cols; ++c)
          if (touched[static_cast<std::size_t>(r * around.cols + c)] && !std::isnan(block.row(r)[c]))
            cells.push_back({static_cast<float>(c), static_cast<float>(top + r), block.row(r)[c]});
    }
    return cells;
  }

  Grid input_;
  GridInfo info_;
  VoidMap map_;
  std::vector<Treatment> treatment_;
  std::uint32_t first_source_;
  mutable std::vector<std::unique_ptr<RimField>> rims_;
  mutable std::vector<std::once_flag> once_;
  GroundRuler ruler_;
};

}  // namespace

FillResult fill_voids(const Grid& grid, const FillOptions& options) {
  if (options.largest && !(options.largest->metres() > 0))
    throw Error(ErrorCode::BadArgument, "the largest void to close must be longer than zero", "fill");
  VoidMap map = find_voids(grid, options.run);
  const GroundSpacing spacing = ground_spacing(grid.frame());
  FillResult result;
  FillReport& report = result.report;
  std::vector<Treatment> treatment;
  for (const VoidRegion& v : map.regions) {
    const Length side = Length::metres(std::max(static_cast<double>(v.box.cols) * spacing.x.metres(),
                                                static_cast<double>(v.box.rows) * spacing.y.metres()));
    const bool large = options.largest ? side > *options.largest : std::max(v.box.cols, v.box.rows) > 100;
    // A grid without a single value has no rim to fill from.
    const bool all = v.cells == grid.frame().cols() * grid.frame().rows();
    Treatment t = v.cells <= options.small ? Treatment::Mean : Treatment::Distance;
    if ((v.at_edge && !options.edges) || all) {
      t = Treatment::Leave;
      ++report.voids_left_at_edge;
    } else if (large) {
      t = Treatment::Leave;
      ++report.voids_left_large;
    }
    treatment.push_back(t);
    if (t == Treatment::Leave) {
      report.cells_left += v.cells;
      report.largest_left = std::max(report.largest_left, side);
      continue;
    }
    ++report.voids_closed;
    ++(t == Treatment::Mean ? report.voids_by_mean : report.voids_by_distance);
    report.cells_closed += v.cells;
    report.largest_closed = std::max(report.largest_closed, side);
  }
  GridInfo info = grid.info();
  const auto first_source = static_cast<std::uint32_t>(info.sources.size()) + 1;
  info.sources.push_back({.name = "fill: window mean", .survey = {}, .date = {}, .cell = spacing.y, .treatment = {}});
  info.sources.push_back(
      {.name = "fill: inverse distance", .survey = {}, .date = {}, .cell = spacing.y, .treatment = {}});
  if (report.cells_closed > 0 && is_integer(info.type)) {
    info.notes.push_back(std::string("filling makes fractions of ") + name_of(info.type) +
                         " values: written as float32");
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  result.grid =
      Grid(std::make_shared<FillSource>(grid, std::move(info), std::move(map), std::move(treatment), first_source));
  return result;
}

}  // namespace katoptra
