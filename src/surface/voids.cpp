#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/fill.hpp"

#include "grid/shared_bands.hpp"
#include "void_finder.hpp"

namespace katoptra {

VoidFinder::VoidFinder(const Frame& frame, std::size_t memory, std::string name)
    : frame_(frame), most_(std::max<std::size_t>(memory, 64u << 20) / (2 * sizeof(VoidRun))), name_(std::move(name)) {
  map_.row_begin.push_back(0);
}

std::uint32_t VoidFinder::root(std::uint32_t a) {
  while (parent_[a] != a) a = parent_[a] = parent_[parent_[a]];
  return a;
}

void VoidFinder::join(std::uint32_t a, std::uint32_t b) {
  a = root(a);
  b = root(b);
  if (a < b) parent_[b] = a;
  if (b < a) parent_[a] = b;
}

void VoidFinder::runs_of(const float* row, std::int64_t cols, std::vector<VoidRun>& out) {
  for (std::int64_t c = 0; c < cols;) {
    if (!std::isnan(row[c])) {
      ++c;
      continue;
    }
    VoidRun run{c, c, 0};
    while (c < cols && std::isnan(row[c])) ++c;
    run.last = c;
    out.push_back(run);
  }
}

void VoidFinder::add_row(std::span<const VoidRun> runs) {
  const std::size_t above_end = map_.runs.size();
  std::size_t above = above_begin_;
  for (VoidRun run : runs) {
    // Runs of the row above that touch this one, corners included.
    while (above < above_end && map_.runs[above].last < run.first) ++above;
    bool labelled = false;
    for (std::size_t a = above; a < above_end && map_.runs[a].first <= run.last; ++a) {
      if (labelled) {
        join(run.region, map_.runs[a].region);
      } else {
        run.region = map_.runs[a].region;
        labelled = true;
      }
    }
    if (!labelled) {
      run.region = static_cast<std::uint32_t>(parent_.size());
      parent_.push_back(run.region);
    }
    map_.runs.push_back(run);
  }
  above_begin_ = above_end;
  map_.row_begin.push_back(map_.runs.size());
  if (map_.runs.size() > most_)
    throw Error(ErrorCode::TooLarge, fmt::format("more than {} separate runs of voids", most_), name_,
                "give more --memory, or clip to a smaller area first");
}

VoidMap VoidFinder::finish() {
  std::vector<std::uint32_t> number(parent_.size(), 0);
  for (std::uint32_t i = 0; i < parent_.size(); ++i) {
    const std::uint32_t r = root(i);
    if (r == i) {
      number[i] = static_cast<std::uint32_t>(map_.regions.size());
      map_.regions.push_back({});
    } else {
      number[i] = number[r];
    }
  }
  for (std::int64_t row = 0; row < frame_.rows(); ++row)
    for (std::size_t i = map_.row_begin[static_cast<std::size_t>(row)];
         i < map_.row_begin[static_cast<std::size_t>(row) + 1]; ++i) {
      VoidRun& run = map_.runs[i];
      run.region = number[run.region];
      VoidRegion& region = map_.regions[run.region];
      if (region.cells == 0) region.box = {run.first, row, run.last - run.first, 1};
      const std::int64_t west = std::min(region.box.col, run.first),
                         east = std::max(region.box.col + region.box.cols, run.last);
      region.box = {west, region.box.row, east - west, row - region.box.row + 1};
      region.cells += run.last - run.first;
      region.at_edge =
          region.at_edge || run.first == 0 || run.last == frame_.cols() || row == 0 || row + 1 == frame_.rows();
      map_.cells += run.last - run.first;
    }
  return std::move(map_);
}

namespace {

// The runs of a band, one row after another.
struct BandRuns {
  std::vector<VoidRun> runs;
  std::vector<std::size_t> row_end;

  template <class Fields>
  void fields(Fields& f) {
    f(runs, row_end);
  }
};

}  // namespace

VoidMap find_voids(const Grid& grid, const RunOptions& options) {
  VoidFinder finder(grid.frame(), options.memory, grid.info().name);
  share_bands<BandRuns>(
      grid, Planes::Values, 0, options,
      [](const Block& block, const Window& band) {
        auto b = std::make_shared<BandRuns>();
        for (std::int64_t r = 0; r < band.rows; ++r) {
          VoidFinder::runs_of(block.row(r), band.cols, b->runs);
          b->row_end.push_back(b->runs.size());
        }
        return b;
      },
      [&](const BandRuns& b) {
        std::size_t begin = 0;
        for (const std::size_t end : b.row_end) {
          finder.add_row(std::span(b.runs).subspan(begin, end - begin));
          begin = end;
        }
      });
  return finder.finish();
}

}  // namespace katoptra
