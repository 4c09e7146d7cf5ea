// What a cloud of points holds, in one pass: numbers, ranges, density, gaps, flight lines, and the cell that it
// carries.
//
//   PointSummary s = summarise(open_points("sheet_a1.laz"));
//   s.spacing.metres();            // 0.49
//   s.supported_cell.metres();     // 0.5
//
// Density and gaps are told on a raster of at most kSummaryCells squares over the points (twice their spacing wide, or
// wider): density over the squares that hold points; a gap is a connected set of empty squares, larger than (4 x
// spacing)^2, that points enclose; open gaps reach the edge of the box. Flight lines are compared where two of them
// have points in the same square and each is even there (all within kEvenGround).
#pragma once
#include <array>
#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "katoptra/points/points.hpp"

namespace katoptra {

inline constexpr std::int64_t kSummaryCells = 4'000'000;
inline constexpr double kEvenGround = 0.15;  // metres

struct FieldRange {
  std::string name;
  double lowest = 0, highest = 0;
};

struct LineDifference {
  int line = 0, other = 0;
  std::int64_t squares = 0;       // that both have, even in both
  double median = 0, spread = 0;  // of other minus line, in the unit of z; spread: NMAD (Höhle & Höhle 2009)
};

struct PointSummary {
  std::uint64_t points = 0, pulses = 0;  // a pulse by its first return; as points where returns are not told
  Bounds bounds;
  double lowest = 0, highest = 0;
  std::array<std::uint64_t, 256> by_class{};
  std::array<std::uint64_t, 16> by_return{}, by_returns{};  // by number of the return, and how many its pulse had
  std::uint64_t withheld = 0, synthetic = 0, overlap = 0, key_points = 0;
  std::vector<FieldRange> ranges;        // of every field that there is, attributes of the file's own included
  std::map<int, std::uint64_t> by_line;  // flight lines
  std::string first_day, last_day;       // ISO; empty unless times are standard GPS times
  // Per square metre of the squares that hold points.
  double density = 0, pulse_density = 0;
  Length spacing, ground_spacing;  // of all points, and of those of class ground (0: none)
  Length supported_cell;           // what gridding the ground, else all points, can carry
  double covered = 0;              // square metres that hold points
  std::int64_t gaps = 0, open_gaps = 0;
  double gap_area = 0, largest_gap = 0;  // square metres, of enclosed gaps
  Point largest_gap_at;
  std::vector<LineDifference> lines;   // pairs that overlap, most squares first
  double overlap_share = 0;            // of the covered squares, those with points of two lines or more
  std::uint64_t outside_declared = 0;  // points beyond the bounds that the file declares
};

PointSummary summarise(const PointCloud& cloud, const RunOptions& run = {});

}  // namespace katoptra
