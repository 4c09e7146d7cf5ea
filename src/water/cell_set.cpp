#include "cell_set.hpp"

namespace katoptra {

CellSet::CellSet(std::vector<CellRun> runs) : runs_(std::move(runs)) {
  if (runs_.empty()) return;
  before_.reserve(runs_.size() + 1);
  std::size_t n = 0;
  std::int32_t west = runs_[0].first, east = runs_[0].last;
  for (const CellRun& run : runs_) {
    before_.push_back(n);
    n += static_cast<std::size_t>(run.last - run.first);
    west = std::min(west, run.first);
    east = std::max(east, run.last);
  }
  before_.push_back(n);
  box_ = {west, runs_[0].row, east - west, runs_.back().row - runs_[0].row + 1};
}

std::size_t CellSet::first_run(std::int64_t row, std::int64_t col) const {
  const auto it = std::partition_point(runs_.begin(), runs_.end(), [&](const CellRun& run) {
    return run.row < row || (run.row == row && run.last <= col);
  });
  return static_cast<std::size_t>(it - runs_.begin());
}

std::int64_t CellSet::number(std::int64_t col, std::int64_t row) const {
  const std::size_t i = first_run(row, col);
  if (i == runs_.size() || runs_[i].row != row || runs_[i].first > col) return -1;
  return static_cast<std::int64_t>(before_[i]) + col - runs_[i].first;
}

CellSet without(const CellSet& a, const CellSet& b) {
  std::vector<CellRun> left;
  for (const CellRun& run : a.runs()) {
    std::int64_t at = run.first;
    b.within({run.first, run.row, run.last - run.first, 1}, [&](const CellRun& taken, std::size_t) {
      if (at < taken.first) left.push_back({run.row, at, taken.first});
      at = taken.last;
    });
    if (at < run.last) left.push_back({run.row, at, run.last});
  }
  return CellSet(std::move(left));
}

std::vector<CellRun> joined(std::vector<CellRun> runs) {
  std::sort(runs.begin(), runs.end());
  std::vector<CellRun> out;
  for (const CellRun& run : runs) {
    if (!out.empty() && out.back().row == run.row && out.back().last >= run.first)
      out.back().last = std::max(out.back().last, run.last);
    else
      out.push_back(run);
  }
  return out;
}

CellSet rim_of(const CellSet& set, const Frame& frame) {
  std::vector<CellRun> all;
  for (const CellRun& run : set.runs()) {
    all.push_back({run.row, std::max(0, run.first - 1), std::min<std::int64_t>(frame.cols(), run.last + 1)});
    if (run.row > 0) all.push_back({run.row - 1, run.first, run.last});
    if (run.row + 1 < frame.rows()) all.push_back({run.row + 1, run.first, run.last});
  }
  return without(CellSet(joined(std::move(all))), set);
}

CellSet inner(const CellSet& set) {
  std::vector<CellRun> out;
  for (const CellRun& run : set.runs())
    if (run.last - run.first > 2)
      set.within({run.first + 1, run.row - 1, run.last - run.first - 2, 1}, [&](const CellRun& above, std::size_t) {
        set.within({above.first, run.row + 1, above.last - above.first, 1}, [&](const CellRun& both, std::size_t) {
          out.push_back({run.row, both.first, both.last});
        });
      });
  return CellSet(std::move(out));
}

std::size_t sampling_of(const CellSet& set) {
  constexpr std::size_t kEnough = 400'000;
  return set.count() / kEnough + 1;
}

std::vector<float> values_of(const Grid& grid, const CellSet& set) {
  std::vector<float> out(set.count());
  read_cells(grid, set, Planes::Values, 0, [&](const Block& block, const CellRun& run, std::size_t number) {
    const Window& w = block.window();
    const float* z = block.row(run.row - w.row) + (run.first - w.col);
    std::copy(z, z + (run.last - run.first), out.begin() + static_cast<std::ptrdiff_t>(number));
  });
  return out;
}

}  // namespace katoptra
