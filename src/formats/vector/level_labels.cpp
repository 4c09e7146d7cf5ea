#include "level_labels.hpp"

#include <algorithm>
#include <cmath>

#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/line_labels.hpp"

namespace katoptra {
namespace {

constexpr double kLetterWidth = 0.7;  // of a digit, in heights
constexpr double kLabelSpacing = 90;  // in heights of letters

bool is_level_line(const Feature& f) {
  return std::holds_alternative<LineString>(f.geometry) && property_of(f, "level") && property_of(f, "index");
}

}  // namespace

double letters_for(const Bounds& drawing) { return std::hypot(drawing.width(), drawing.height()) / 250; }

bool has_level_labels(const Layer& layer) {
  return std::any_of(layer.features.begin(), layer.features.end(), is_level_line);
}

void for_each_level_label(const Layer& layer, double letters, const std::function<void(const LevelLabel&)>& each) {
  if (!(letters > 0)) return;
  const bool has_index = has_index_lines(layer);
  LineLabels labels({.height = letters, .spacing = kLabelSpacing * letters});
  for (const Feature& f : layer.features) {
    if (!is_level_line(f) || !is_numbered(f, has_index)) continue;
    LevelLabel label{.height = height_at(f, 0), .text = number_on(f)};
    const double width = kLetterWidth * letters * static_cast<double>(label.text.size());
    for (const LineLabel& l : labels.along(std::get<LineString>(f.geometry), width)) {
      label.at = l.centre;
      label.turn = l.turn * 180 / std::acos(-1.0);
      each(label);
    }
  }
}

}  // namespace katoptra
