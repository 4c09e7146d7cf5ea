#include "control_options.hpp"

#include "katoptra/formats/vector_file.hpp"

namespace katoptra::cli {

CLI::Option* add_control(CLI::App& verb, ControlOptions& o, const std::string& help) {
  CLI::Option* control = verb.add_option("--control", o.control, help);
  verb.add_option("--control-crs", o.control_crs, "their CRS when they do not say (default: that of the surface)")
      ->needs(control);
  verb.add_option("--control-heights", o.control_heights, "their vertical reference")->needs(control);
  verb.add_option("--control-unit", o.control_unit, "the unit of their heights: m, ft, ftUS")->needs(control);
  verb.add_option("--control-error", o.control_error, "the standard error of their own survey, e.g. 0.01m")
      ->needs(control);
  return control;
}

ControlSet control_points(const ControlOptions& o, const Grid& surface, std::vector<std::string>& notes) {
  ControlSet set =
      control_from(read_layer(o.control, !o.control_crs.empty() ? Crs::parse(o.control_crs) : surface.frame().crs()));
  if (!o.control_heights.empty()) set.heights = HeightReference::parse(o.control_heights);
  if (!o.control_unit.empty()) set.unit = parse_length_unit(o.control_unit);
  if (!o.control_error.empty()) set.error = length_from(o.control_error, LengthUnit::Metre, notes);
  return set;
}

}  // namespace katoptra::cli
