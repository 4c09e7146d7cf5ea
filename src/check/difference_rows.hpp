// Differences of two surfaces row by row: what the pass of a comparison gathers of each, by class and by patch. Rows
// stand apart in a part, so that joining parts does not depend on where bands begin.
#pragma once
#include <array>
#include <cmath>
#include <cstdint>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "katoptra/check/compare.hpp"

#include "grid/cell_areas.hpp"
#include "moments.hpp"

namespace katoptra {

// Which classes a cell is in; the numbers run through all kinds.
struct DifferenceClasses {
  std::vector<double> slope_bounds;  // degrees
  std::size_t slopes() const { return slope_bounds.size() + 1; }
  std::size_t aspects() const { return slopes(); }
  std::size_t levels() const { return aspects() + 8; }
  std::size_t ways() const { return levels() + 2; }
  std::size_t all() const { return ways() + kHowCount; }

  // Of what it is a class, and what it is called.
  std::pair<std::string, std::string> name(std::size_t i) const;
};

// A class of one band.
struct ClassPart {
  ErrorGathering errors;
  std::vector<Moments> rows;
};

// Of the cells of a row in a patch of kVolumePatch.
struct PatchRow {
  double sum = 0;
  std::int32_t n = 0;
  float largest = 0;
  std::int64_t col = 0;
};

// In the unit of the difference times square metres.
struct VolumeRow {
  double above = 0, below = 0, area_above = 0, area_below = 0, area = 0;
  void add(const VolumeRow& o);
  void add(double d, double cell);
  void to(VolumeChange& v, double unit) const;
};

// Cells that lie beyond the level of detection, and what the level is.
struct DetectedRow {
  VolumeRow volume;
  std::int64_t cells = 0, known = 0;
  double squares = 0, lowest = INFINITY, highest = 0;  // of the level

  void add(double d, double level, double cell);
  void to(Detection& all, double unit) const;
};

struct DifferencePart {
  std::vector<ClassPart> classes;  // the first is of all cells
  std::vector<std::vector<PatchRow>> patches;
  std::vector<VolumeRow> volume;
  std::vector<DetectedRow> detected;
  // By way of dividing cells (level, lineage): the class that all have been in so far, or -1. Its sketch is that of all
  // cells, and is not made before another class comes.
  std::array<std::int32_t, 2> only;
};

class DifferenceRows {
 public:
  // Sketches are about `origin`; cells of the first surface below `sea` are sea.
  DifferenceRows(const Frame& frame, DifferenceClasses classes, double sea, double origin);

  struct Row {
    const float* a;
    const Origin* origin;
    const float *b, *p, *q;         // the first surface's rise to the east and to the north, height over distance
    std::span<const double> level;  // of detection, by cell; NaN where it is not known; may be empty
    std::int64_t row;
  };
  using Spans = std::vector<std::pair<std::int64_t, std::int64_t>>;  // of columns

  DifferencePart part() const;
  // All rows of a part, one after another, and then the end of it.
  void add(const Row& in, const Spans& spans, DifferencePart& part) const;
  void finish(DifferencePart& part) const;
  const DifferenceClasses& classes() const { return classes_; }

 private:
  enum Kind { kLevel, kLineage };
  struct Piece;
  struct RowSums;

  void add_piece(const Row& in, Piece& p, DifferencePart& part, RowSums& sums) const;
  void count_by_ground(const Row& in, Piece& p, DifferencePart& part, RowSums& sums) const;
  void join_ground(DifferencePart& part, RowSums& sums) const;
  bool classify(Kind kind, const Row& in, Piece& p) const;
  void count_alike(Kind kind, const Piece& p, DifferencePart& part, RowSums& sums) const;
  void count_apart(Kind kind, const Piece& p, DifferencePart& part, RowSums& sums) const;

  std::int64_t cols_;
  DifferenceClasses classes_;
  CellAreas areas_;
  double origin_;
  std::vector<float> slope_edges_;  // squared gradients at which classes begin
  float sea_edge_;
};

}  // namespace katoptra
