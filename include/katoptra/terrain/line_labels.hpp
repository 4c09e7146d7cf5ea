// Where labels stand on lines: on straight stretches, at a spacing, clear of one another.
//
//   LineLabels labels({.height = 12, .spacing = 400});
//   const std::vector<LineLabel> places = labels.along(line, 40);
//   for (const LineLabel& l : places) say(text, l.centre, l.turn);
//   for (const LineString& part : without_labels(line, places)) save(part);   // the line is broken behind them
//
// Coordinates are those of the sheet or drawing, y up. A label reads along its line; the top of its letters is on the
// left of it. Contours have the higher ground there, so their numbers stand upright to somebody who looks uphill. A
// stretch is straight where the line strays from its chord by at most kStraight of the letters' height. Of each part of
// the line as long as the spacing the straightest free place is taken. The same labels every time.
#pragma once
#include <unordered_map>
#include <vector>

#include "katoptra/geo/geometry.hpp"

namespace katoptra {

inline constexpr double kStraight = 0.5;

struct LineLabel {
  Point centre;
  double turn = 0;          // radians, counter-clockwise from x, in which the label reads
  double from = 0, to = 0;  // what it covers of its line, as distances along it
};

struct LineLabelOptions {
  double height = 12;    // of the letters
  double spacing = 400;  // between labels of a line
  Bounds within = {};    // only here; empty: anywhere
};

class LineLabels {
 public:
  explicit LineLabels(const LineLabelOptions& options) : options_(options) {}

  // The labels of one line, of this width. Lines shorter than three labels have none.
  std::vector<LineLabel> along(const LineString& line, double width);
  // Keeps this place free of labels, if it still is; false when something stands there.
  bool take(Point centre, double turn, double width);
  // Keeps it free in any case: something else stands there.
  void keep(Point centre, double turn, double width);

 private:
  bool is_free(Point centre, double turn, double width) const;
  std::vector<Point> discs(Point centre, double turn, double width) const;
  long long box_of(Point p, int right, int up) const;

  LineLabelOptions options_;
  std::unordered_map<long long, std::vector<Point>> taken_;
};

// The parts of the line between its labels (in order along it).
std::vector<LineString> without_labels(const LineString& line, const std::vector<LineLabel>& labels);

}  // namespace katoptra
