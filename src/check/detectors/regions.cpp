#include "regions.hpp"

#include <algorithm>
#include <numeric>

namespace katoptra {
namespace {

constexpr std::size_t kMostLabels = 100'000;

bool greater_first(const Region& a, const Region& b) {
  return a.cells != b.cells ? a.cells > b.cells : std::pair(a.box.row, a.box.col) < std::pair(b.box.row, b.box.col);
}

void join(Region& to, const Region& r) {
  to.cells += r.cells;
  const std::int64_t c1 = std::max(to.box.col + to.box.cols, r.box.col + r.box.cols),
                     r1 = std::max(to.box.row + to.box.rows, r.box.row + r.box.rows);
  to.box.col = std::min(to.box.col, r.box.col);
  to.box.row = std::min(to.box.row, r.box.row);
  to.box.cols = c1 - to.box.col;
  to.box.rows = r1 - to.box.row;
}

}  // namespace

Regions::Regions(double least, Touching touching, std::function<bool(const Region&)> kept)
    : least_(static_cast<std::int64_t>(least)),
      reach_(touching == Touching::EdgesAndCorners ? 1 : 0),
      kept_(std::move(kept)) {}

void Regions::add_row(std::span<const RegionRun> runs, std::int64_t row) {
  next_.clear();
  std::size_t above = 0;
  for (const RegionRun& run : runs) {
    const Region r{run.last - run.first, {run.first, row, run.last - run.first, 1}, run.value};
    while (above < open_.size() && open_[above].run.last + reach_ <= run.first) ++above;
    std::size_t label = labels_.size();
    for (std::size_t a = above; a < open_.size() && open_[a].run.first < run.last + reach_; ++a) {
      if (open_[a].run.value != run.value) continue;
      const std::size_t other = root(open_[a].label);
      if (label == labels_.size()) {
        label = other;
        join(regions_[label], r);
      } else if (other != label) {
        join(regions_[label], regions_[other]);
        labels_[other] = label;
      }
    }
    if (label == labels_.size()) {
      labels_.push_back(label);
      regions_.push_back(r);
    }
    next_.push_back({run, label});
  }
  std::swap(open_, next_);
  if (labels_.size() > kMostLabels + 2 * open_.size()) compact();
}

std::vector<Region> Regions::finish() {
  open_.clear();
  compact();
  keep_largest();
  return std::move(done_);
}

std::size_t Regions::root(std::size_t a) {
  while (labels_[a] != a) a = labels_[a] = labels_[labels_[a]];
  return a;
}

void Regions::keep_largest() {
  std::sort(done_.begin(), done_.end(), greater_first);
  if (done_.size() > kKept) done_.resize(kKept);
}

// Regions that no run of the last row belongs to are finished.
void Regions::compact() {
  std::vector<std::size_t> number(labels_.size(), labels_.size());
  std::vector<Region> kept;
  for (Open& o : open_) {
    const std::size_t r = root(o.label);
    if (number[r] == labels_.size()) {
      number[r] = kept.size();
      kept.push_back(regions_[r]);
    }
    o.label = number[r];
  }
  for (std::size_t i = 0; i < labels_.size(); ++i)
    if (labels_[i] == i && number[i] == labels_.size() && regions_[i].cells >= least_ &&
        (!kept_ || kept_(regions_[i]))) {
      ++count_;
      done_.push_back(regions_[i]);
    }
  if (done_.size() > kKept) keep_largest();
  regions_ = std::move(kept);
  labels_.resize(regions_.size());
  std::iota(labels_.begin(), labels_.end(), std::size_t{0});
}

}  // namespace katoptra
