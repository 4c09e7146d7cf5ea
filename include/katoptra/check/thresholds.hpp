// What counts as wrong: every threshold of `check` in one table, with a value for each profile.
//
//   Thresholds t = Thresholds::of(Profile::Navigation);
//   t.set("seam", "0.1m");                       // as a study file or --threshold writes it
//   for (const ThresholdInfo& i : threshold_table()) say(i.name, i.unit);
//
// Profiles: `quick` finds what is plainly broken and nothing else; `survey` what keeps a terrain model from being
// signed; `navigation` judges a sea floor that ships rely on, where a single cell too low matters.
#pragma once
#include <span>
#include <string>
#include <string_view>

#include "katoptra/base/units.hpp"

namespace katoptra {

enum class Profile { Quick, Survey, Navigation };
const char* name_of(Profile profile);          // "quick" ...
Profile parse_profile(std::string_view text);  // BadArgument otherwise

struct Thresholds {
  Profile profile = Profile::Survey;
  Length spike = 0.5_m;       // least height of a spike or pit
  double spike_times = 10;    // and times the usual departure around it
  Length stripe = 0.05_m;     // least height of a stripe of rows or columns
  Length step = 0.1_m;        // least straight step
  Length ripple = 0.02_m;     // least amplitude of a regular ripple
  Length seam = 0.05_m;       // least step between two sources
  Length offset = 0.05_m;     // least median difference between two surveys
  double shift = 0.15;        // least shift between two tiles, in cells of the first
  Length tilt = 0.1_m;        // least tilt of their difference over the overlap, from end to end
  double repeated = 0.01;     // least share of lines that repeat the one before
  double terraces = 0.3;      // least share of neighbours that are equal on sloping ground
  double flat_cells = 2000;   // least size of a flat patch that is told
  double planar_cells = 400;  // least size of a tilted plane that is told
  double void_cells = 1;      // least size of a void inside that is a failure
  double coverage = 1;        // least share of the area that must have values
  Length uphill = 0.1_m;      // least rise along a stream line
  double too_sure = 3;        // least times that cells scatter by more than their uncertainties allow
  double gap = 8;             // least width of a gap between points, in spacings
  double density = 0.9;       // least share of squares that reach the nominal density of points

  static Thresholds of(Profile profile);
  // By the name in the table; lengths with their unit, others as plain numbers. BadArgument with what is known.
  void set(std::string_view name, std::string_view value);
};

struct ThresholdInfo {
  const char* name;
  const char* unit;  // "m", "", "cells", "times"
  const char* meaning;
  double quick, survey, navigation;
};
std::span<const ThresholdInfo> threshold_table();
double threshold_value(const Thresholds& t, const ThresholdInfo& info);

}  // namespace katoptra
