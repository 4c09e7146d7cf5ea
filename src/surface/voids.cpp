#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numeric>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/fill.hpp"

namespace katoptra {
namespace {

// Disjoint sets with path halving; the smaller number is the root, so that regions are numbered as they are met.
class Labels {
 public:
  std::uint32_t add() {
    parent_.push_back(static_cast<std::uint32_t>(parent_.size()));
    return parent_.back();
  }
  std::uint32_t root(std::uint32_t a) {
    while (parent_[a] != a) a = parent_[a] = parent_[parent_[a]];
    return a;
  }
  void join(std::uint32_t a, std::uint32_t b) {
    a = root(a);
    b = root(b);
    if (a < b) parent_[b] = a;
    if (b < a) parent_[a] = b;
  }
  std::size_t size() const { return parent_.size(); }

 private:
  std::vector<std::uint32_t> parent_;
};

}  // namespace

VoidMap find_voids(const Grid& grid, const RunOptions& options) {
  const Frame& f = grid.frame();
  VoidMap map;
  Labels labels;
  map.row_begin.push_back(0);
  std::size_t above_begin = 0;
  const std::size_t most = std::max<std::size_t>(options.memory, 64u << 20) / (2 * sizeof(VoidRun));
  for_each_band(grid, Planes::Values, options, [&](const Block& band) {
    for (std::int64_t r = 0; r < band.window().rows; ++r) {
      const float* row = band.row(r);
      const std::size_t above_end = map.runs.size();
      std::size_t above = above_begin;
      for (std::int64_t c = 0; c < f.cols();) {
        if (!std::isnan(row[c])) {
          ++c;
          continue;
        }
        VoidRun run{c, c, 0};
        while (c < f.cols() && std::isnan(row[c])) ++c;
        run.last = c;
        // Runs of the row above that touch this one, corners included.
        while (above < above_end && map.runs[above].last < run.first) ++above;
        bool labelled = false;
        for (std::size_t a = above; a < above_end && map.runs[a].first <= run.last; ++a) {
          if (labelled) {
            labels.join(run.region, map.runs[a].region);
          } else {
            run.region = map.runs[a].region;
            labelled = true;
          }
        }
        if (!labelled) run.region = labels.add();
        map.runs.push_back(run);
      }
      above_begin = above_end;
      map.row_begin.push_back(map.runs.size());
    }
    if (map.runs.size() > most)
      throw Error(ErrorCode::TooLarge, fmt::format("more than {} separate runs of voids", most), grid.info().name,
                  "give more --memory, or clip to a smaller area first");
  });
  std::vector<std::uint32_t> number(labels.size(), 0);
  for (std::uint32_t i = 0; i < labels.size(); ++i) {
    const std::uint32_t root = labels.root(i);
    if (root == i) {
      number[i] = static_cast<std::uint32_t>(map.regions.size());
      map.regions.push_back({});
    } else {
      number[i] = number[root];
    }
  }
  for (std::int64_t row = 0; row < f.rows(); ++row)
    for (std::size_t i = map.row_begin[static_cast<std::size_t>(row)];
         i < map.row_begin[static_cast<std::size_t>(row) + 1]; ++i) {
      VoidRun& run = map.runs[i];
      run.region = number[run.region];
      VoidRegion& region = map.regions[run.region];
      if (region.cells == 0) region.box = {run.first, row, run.last - run.first, 1};
      const std::int64_t west = std::min(region.box.col, run.first),
                         east = std::max(region.box.col + region.box.cols, run.last);
      region.box = {west, region.box.row, east - west, row - region.box.row + 1};
      region.cells += run.last - run.first;
      region.at_edge = region.at_edge || run.first == 0 || run.last == f.cols() || row == 0 || row + 1 == f.rows();
      map.cells += run.last - run.first;
    }
  return map;
}

}  // namespace katoptra
