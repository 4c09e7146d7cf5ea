#include "level_labels.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/terrain/line_labels.hpp"

namespace katoptra {
namespace {

constexpr double kLetterWidth = 0.7;  // of a digit, in heights
constexpr double kLabelSpacing = 90;  // in heights of letters

bool is_index(const Feature& f) {
  const Property* index = property_of(f, "index");
  const auto* yes = index ? std::get_if<std::int64_t>(index) : nullptr;
  return yes && *yes;
}
bool is_level_line(const Feature& f) {
  return std::holds_alternative<LineString>(f.geometry) && property_of(f, "level") && property_of(f, "index");
}

std::string number_of(const Property& p) {
  const auto* number = std::get_if<double>(&p);
  return number ? fmt::format("{:g}", *number + 0.0) : text_of(p);
}

}  // namespace

double letters_for(const Bounds& drawing) { return std::hypot(drawing.width(), drawing.height()) / 250; }

bool has_level_labels(const Layer& layer) {
  return std::any_of(layer.features.begin(), layer.features.end(), is_level_line);
}

void for_each_level_label(const Layer& layer, double letters, const std::function<void(const LevelLabel&)>& each) {
  if (!(letters > 0)) return;
  const bool all = std::none_of(layer.features.begin(), layer.features.end(), is_index);
  LineLabels labels({.height = letters, .spacing = kLabelSpacing * letters});
  for (const Feature& f : layer.features) {
    if (!is_level_line(f) || !(all || is_index(f))) continue;
    const Property* depth = property_of(f, "depth");
    LevelLabel label{.height = height_at(f, 0), .text = number_of(depth ? *depth : *property_of(f, "level"))};
    const double width = kLetterWidth * letters * static_cast<double>(label.text.size());
    for (const LineLabel& l : labels.along(std::get<LineString>(f.geometry), width)) {
      label.at = l.centre;
      label.turn = l.turn * 180 / std::acos(-1.0);
      each(label);
    }
  }
}

}  // namespace katoptra
