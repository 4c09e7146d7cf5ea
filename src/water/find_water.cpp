// Water that the surface itself shows.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/water/flat_water.hpp"

#include "base/robust.hpp"
#include "cell_set.hpp"
#include "grid/cell_areas.hpp"
#include "grid/shared_bands.hpp"
#include "river_levels.hpp"
#include "surface/void_finder.hpp"
#include "terrain/product_info.hpp"

namespace katoptra {
namespace {

constexpr double kFewReturns = 0.25;  // of the median
constexpr double kShoreHigher = 0.9;  // of the cells around water
constexpr float kNoLimit = INFINITY;
constexpr std::int64_t kToWater = 3;  // cells from the bank to level water

// The number of returns below which a cell may be water.
float few_returns(const Grid& returns, const RunOptions& run) {
  std::vector<double> counts;
  const std::int64_t every = returns.frame().window().cells() / 1'000'000 + 1;
  std::int64_t at = 0;
  for_each_band(returns, Planes::Values, run, [&](const Block& band) {
    for (std::int64_t i = 0; i < band.window().cells(); ++i)
      if (const float n = band.row(0)[i]; n > 0 && at++ % every == 0) counts.push_back(static_cast<double>(n));
  });
  if (counts.empty())
    throw Error(ErrorCode::BadArgument, "counts no returns anywhere", returns.info().name,
                "give a grid of the number of points in each cell");
  return static_cast<float>(kFewReturns * median_of(std::move(counts)));
}

class WaterSearch {
 public:
  WaterSearch(const Grid& surface, const FindWaterOptions& o)
      : surface_(surface),
        options_(o),
        flat_(static_cast<float>(o.flat.metres() / metres_per(surface.quantity().unit))),
        areas_(surface.frame()),
        finder_(surface.frame(), o.run.memory / 2, surface.info().name) {
    if (!(o.flat.metres() >= 0))
      throw Error(ErrorCode::BadArgument, "heights cannot differ by less than nothing", "find water");
    if (!o.returns) return;
    if (surface.frame().window_of(o.returns->frame()) != surface.frame().window())
      throw Error(ErrorCode::Refused, "does not have the cells of the surface", o.returns->info().name,
                  "count the points on its lattice: --onto the surface");
    few_ = few_returns(*o.returns, o.run);
  }

  std::vector<WaterBody> find() {
    share_bands<Rows>(
        surface_, Planes::Values, 1, options_.run,
        [&](const Block& with_halo, const Window& band) { return std::make_shared<Rows>(candidates(with_halo, band)); },
        [&](const Rows& rows) {
          for (const auto& row : rows) finder_.add_row(row);
        });
    const VoidMap map = finder_.finish();
    std::vector<std::vector<CellRun>> runs(map.regions.size());
    std::vector<double> area(map.regions.size());
    for (std::int64_t r = 0; r < surface_.frame().rows(); ++r) {
      const CellAreas::Row of_row = areas_.row(r);
      for (std::size_t i = map.row_begin[static_cast<std::size_t>(r)];
           i < map.row_begin[static_cast<std::size_t>(r) + 1]; ++i) {
        const VoidRun& run = map.runs[i];
        for (std::int64_t c = run.first; c < run.last; ++c) area[run.region] += of_row.at(c);
        runs[run.region].push_back({r, run.first, run.last});
      }
    }
    std::vector<WaterBody> out;
    for (std::size_t i = 0; i < runs.size(); ++i)
      if (area[i] >= options_.smallest) judge(CellSet(std::move(runs[i])), out);
    return out;
  }

 private:
  using Rows = std::vector<std::vector<VoidRun>>;

  // Cells that may be water: those that lie as high as all around them, voids among them.
  Rows candidates(const Block& b, const Window& band) const {
    Rows rows(static_cast<std::size_t>(band.rows));
    const Window& w = b.window();
    Block returns;
    if (options_.returns) returns = options_.returns->read(band);
    for (std::int64_t r = 0; r < band.rows; ++r)
      for (std::int64_t c = 0; c < band.cols; ++c) {
        if (options_.returns && !(few(returns, c, r))) continue;
        if (!is_level(b, band.col + c - w.col, band.row + r - w.row)) continue;
        std::vector<VoidRun>& row = rows[static_cast<std::size_t>(r)];
        if (row.empty() || row.back().last != c) row.push_back({c, c, 0});
        ++row.back().last;
      }
    return rows;
  }
  bool few(const Block& returns, std::int64_t c, std::int64_t r) const {
    const float n = returns.at(c, r);
    return std::isnan(n) || n <= few_;
  }
  bool is_level(const Block& b, std::int64_t c, std::int64_t r) const {
    if (std::isnan(b.at(c, r))) return true;
    float low = kNoLimit, high = -kNoLimit;
    for (std::int64_t y = std::max<std::int64_t>(0, r - 1); y <= std::min(r + 1, b.window().rows - 1); ++y)
      for (std::int64_t x = std::max<std::int64_t>(0, c - 1); x <= std::min(c + 1, b.window().cols - 1); ++x)
        if (const float z = b.at(x, y); !std::isnan(z)) {
          low = std::min(low, z);
          high = std::max(high, z);
        }
    return high - low <= flat_;
  }

  void judge(const CellSet& level, std::vector<WaterBody>& out) const {
    // The shore is not level itself, nor are cells beside a boat: two more cells all around belong to it.
    const CellSet cells = grown(grown(level));
    if (cells.count() == static_cast<std::size_t>(surface_.frame().window().cells())) return;
    std::vector<double> heights;
    sample_heights(surface_, level, Planes::Values, [&](double z, double) { heights.push_back(z); });
    const bool is_void = 4 * heights.size() * sampling_of(level) < level.count();
    const WaterKind kind = is_void ? WaterKind::Lake : kind_of(level, std::move(heights));
    if (is_void ? !has_level_bank(cells) : kind == WaterKind::Unknown || !has_higher_bank(level, cells)) return;
    out.push_back({.shape = outline_of(cells.runs(), surface_.frame()), .kind = kind, .level = {}, .name = {}});
  }

  CellSet grown(const CellSet& set) const {
    std::vector<CellRun> runs = set.runs();
    const CellSet rim = rim_of(set, surface_.frame());
    runs.insert(runs.end(), rim.runs().begin(), rim.runs().end());
    return CellSet(joined(std::move(runs)));
  }

  // A lake is level all over; what is not is a river if it is long, else a plain or a sea floor: unknown.
  WaterKind kind_of(const CellSet& level, std::vector<double> heights) const {
    constexpr double kOfLake = 4;  // times what neighbours may differ by
    std::sort(heights.begin(), heights.end());
    const double spread = quantile_of(heights, 0.95) - quantile_of(heights, 0.05);
    if (spread <= kOfLake * static_cast<double>(flat_)) return WaterKind::Lake;
    if (level.count() > static_cast<std::size_t>(kRiverCells)) return WaterKind::Unknown;
    constexpr double kLengths = 10, kSteepest = 0.02;  // to its width; of a river that is level across
    const GroundSpacing s = ground_spacing(surface_.frame().sub(level.box()));
    const Form form = form_of(level, {s.x.metres(), s.y.metres()});
    const double fall = spread * metres_per(surface_.quantity().unit) / std::max(form.length, form.width);
    return form.length >= kLengths * form.width && fall <= kSteepest ? WaterKind::River : WaterKind::Unknown;
  }

  // Whether the shore rises nearly all around.
  bool has_higher_bank(const CellSet& level, const CellSet& cells) const {
    std::int64_t higher = 0, all = 0;
    read_cells(surface_, rim_of(cells, surface_.frame()), Planes::Values, kToWater,
               [&](const Block& b, const CellRun& run, std::size_t) {
                 for (std::int64_t c = run.first; c < run.last; ++c) {
                   const float z = b.at(c - b.window().col, run.row - b.window().row);
                   if (std::isnan(z)) continue;
                   ++all;
                   higher += z > lowest_around(b, level, c, run.row);
                 }
               });
    return all > 0 && static_cast<double>(higher) >= kShoreHigher * static_cast<double>(all);
  }
  // Around voids of a lake much of the bank stands just above the water; around those of a slope it does not.
  bool has_level_bank(const CellSet& cells) const {
    constexpr double kLow = 0.05, kShare = 1.0 / 3, kNear = 3;
    std::vector<double> bank;
    for (const float z : values_of(surface_, rim_of(cells, surface_.frame())))
      if (!std::isnan(z)) bank.push_back(static_cast<double>(z));
    if (bank.empty()) return false;
    std::sort(bank.begin(), bank.end());
    const double most = quantile_of(bank, kLow) + kNear * static_cast<double>(flat_);
    const auto near = std::upper_bound(bank.begin(), bank.end(), most) - bank.begin();
    return static_cast<double>(near) >= kShare * static_cast<double>(bank.size());
  }
  // Of the level cells within three steps; of none known, nothing is higher.
  static float lowest_around(const Block& b, const CellSet& level, std::int64_t col, std::int64_t row) {
    float low = kNoLimit;
    for (std::int64_t y = -kToWater; y <= kToWater; ++y)
      for (std::int64_t x = -kToWater; x <= kToWater; ++x)
        if (level.holds(col + x, row + y)) {
          const float z = b.at(col + x - b.window().col, row + y - b.window().row);
          if (!std::isnan(z)) low = std::min(low, z);
        }
    return low;
  }

  const Grid& surface_;
  const FindWaterOptions& options_;
  float flat_, few_ = 0;
  CellAreas areas_;
  VoidFinder finder_;
};

}  // namespace

std::vector<WaterBody> find_water(const Grid& surface, const FindWaterOptions& options) {
  require_heights(surface);
  return WaterSearch(surface, options).find();
}

}  // namespace katoptra
