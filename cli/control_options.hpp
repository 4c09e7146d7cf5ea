// Control points as verbs take them: a file, and what it does not say itself.
#pragma once
#include "katoptra/check/control.hpp"

#include "common.hpp"

namespace katoptra::cli {

struct ControlOptions {
  std::string control, control_crs, control_heights, control_unit, control_error;
};

// Adds --control and its companions; what else belongs to it may say that it needs it.
CLI::Option* add_control(CLI::App& verb, ControlOptions& o, const std::string& help);
// The points; `surface`: in whose CRS they are, unless something else is said.
ControlSet control_points(const ControlOptions& o, const Grid& surface, std::vector<std::string>& notes);

}  // namespace katoptra::cli
