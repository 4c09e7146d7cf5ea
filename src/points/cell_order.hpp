// Points in the order of small cells: the box around them is halved, the longer side first, until a cell holds one or
// two points where they lie evenly, and cells follow one another as the halves do. Points of a half, at whatever
// depth, are then neighbours in memory, and halving again costs nothing.
#pragma once
#include <algorithm>
#include <array>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <utility>
#include <vector>

#include "katoptra/base/parallel.hpp"

namespace katoptra {

class CellOrder {
 public:
  // Puts points (anything with whole x and y) in that order, those of one cell by `less`. Counts and places: time does
  // not grow faster than their number, but for points that crowd in few cells. `pieces`: into how many the work is cut
  // for the threads of the run that is under way.
  template <class P, class Less>
  CellOrder(std::vector<P>& points, const Less& less, std::size_t pieces = 1);

  // How often the box is halved; there are 2^depth cells.
  int depth() const { return depth_; }
  std::size_t cells() const { return std::size_t{1} << depth_; }
  // Whether the halves at a depth lie beside one another (west, east) or above one another (south, north).
  bool cuts_x(int depth) const { return cuts_x_ >> depth & 1; }
  // Where the points of a cell begin; those of the last end at begin(cells()).
  std::size_t begin(std::size_t cell) const { return begins_[cell]; }

  // Of points for which `same` holds the first one stays. Such must follow one another in the order of `less`.
  template <class P, class Same>
  void drop_repeated(std::vector<P>& points, const Same& same);

 private:
  // Along one axis: by the place along it, its bits where they belong in the number of a cell.
  struct Axis {
    std::int64_t least = 0;
    double scale = 0;  // 2^halvings / (length + 1): below 2^halvings for every point, and never falling
    std::vector<std::uint32_t> bits;
    std::uint32_t at(std::int64_t v) const {
      return bits[static_cast<std::size_t>(static_cast<double>(v - least) * scale)];
    }
  };
  static constexpr int kMostHalvings = 12;  // along one axis

  template <class P>
  std::array<Axis, 2> axes_of(const std::vector<P>& points);

  int depth_ = 0;
  std::uint32_t cuts_x_ = 0;  // a bit a depth
  std::vector<std::uint32_t> begins_;
};

template <class P>
std::array<CellOrder::Axis, 2> CellOrder::axes_of(const std::vector<P>& points) {
  std::int64_t low[2] = {0, 0}, high[2] = {0, 0};
  for (std::size_t i = 0; i < points.size(); ++i) {
    const std::int64_t v[2] = {points[i].x, points[i].y};
    for (int k = 0; k < 2; ++k) {
      low[k] = i == 0 ? v[k] : std::min(low[k], v[k]);
      high[k] = i == 0 ? v[k] : std::max(high[k], v[k]);
    }
  }
  double side[2] = {static_cast<double>(high[0] - low[0] + 1), static_cast<double>(high[1] - low[1] + 1)};
  const double length[2] = {side[0], side[1]};
  int halvings[2] = {0, 0};
  const int most = static_cast<int>(std::bit_width(points.size())) - 1;
  for (; depth_ < most; ++depth_) {
    const int k = side[0] >= side[1] ? 0 : 1;
    if (halvings[k] == kMostHalvings || side[k] < 2) break;
    ++halvings[k];
    side[k] /= 2;
    if (k == 0) cuts_x_ |= 1u << depth_;
  }
  std::array<Axis, 2> out;
  for (int k = 0; k < 2; ++k) {
    const std::uint32_t n = 1u << halvings[k];
    out[static_cast<std::size_t>(k)] = {low[k], n / length[k], std::vector<std::uint32_t>(n, 0)};
    // Its bits from the first halving on, at the depths that cut this axis.
    int left = halvings[k];
    for (int d = 0; d < depth_; ++d) {
      if (cuts_x(d) != (k == 0)) continue;
      --left;
      for (std::uint32_t i = 0; i < n; ++i)
        out[static_cast<std::size_t>(k)].bits[i] |= (i >> left & 1) << (depth_ - 1 - d);
    }
  }
  return out;
}

template <class P, class Less>
CellOrder::CellOrder(std::vector<P>& points, const Less& less, std::size_t pieces) {
  const std::array<Axis, 2> axes = axes_of(points);
  std::vector<std::uint32_t> cell(points.size());
  // Each piece counts on its own, and has places of its own in each cell: points stay in the order they came in.
  std::vector<std::vector<std::uint32_t>> places(pieces);
  const auto each = [&](std::size_t n, const auto& body) {
    const auto part = [&](std::size_t k) { body(k, k * n / pieces, (k + 1) * n / pieces); };
    if (pieces == 1)
      part(0);
    else
      parallel_within(pieces, part);
  };
  each(points.size(), [&](std::size_t piece, std::size_t first, std::size_t end) {
    std::vector<std::uint32_t>& count = places[piece];
    count.assign(cells(), 0);
    for (std::size_t i = first; i < end; ++i) {
      cell[i] = axes[0].at(points[i].x) | axes[1].at(points[i].y);
      ++count[cell[i]];
    }
  });
  begins_.resize(cells() + 1);
  std::uint32_t sum = 0;
  for (std::size_t c = 0; c < cells(); ++c) {
    begins_[c] = sum;
    for (std::vector<std::uint32_t>& place : places) sum += std::exchange(place[c], sum);
  }
  begins_[cells()] = sum;
  std::vector<P> ordered(points.size());
  each(points.size(), [&](std::size_t piece, std::size_t first, std::size_t end) {
    for (std::size_t i = first; i < end; ++i) ordered[places[piece][cell[i]]++] = points[i];
  });
  points.swap(ordered);
  each(cells(), [&](std::size_t, std::size_t first, std::size_t end) {
    for (std::size_t c = first; c < end; ++c)
      if (begins_[c + 1] - begins_[c] > 1)
        std::sort(points.begin() + begins_[c], points.begin() + begins_[c + 1], less);
  });
}

template <class P, class Same>
void CellOrder::drop_repeated(std::vector<P>& points, const Same& same) {
  std::size_t kept = 0;
  for (std::size_t c = 0, i = 0; c < cells(); ++c) {
    const std::size_t first = kept, end = begins_[c + 1];
    begins_[c] = static_cast<std::uint32_t>(first);
    for (; i < end; ++i)
      if (kept == first || !same(points[kept - 1], points[i])) {
        if (kept != i) points[kept] = points[i];
        ++kept;
      }
  }
  begins_[cells()] = static_cast<std::uint32_t>(kept);
  points.resize(kept);
}

}  // namespace katoptra
