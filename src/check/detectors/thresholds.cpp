#include "katoptra/check/thresholds.hpp"

#include <array>
#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

struct ThresholdEntry {
  ThresholdInfo info;
  Length Thresholds::*length = nullptr;
  double Thresholds::*number = nullptr;
};

const std::array<ThresholdEntry, 19> kThresholdEntries{{
    {{"spike", "m", "a spike or pit stands off the ground around it by at least this", 5, 0.5, 0.25},
     &Thresholds::spike,
     nullptr},
    {{"spike-times", "times", "and by this many times the usual departure there", 20, 10, 8},
     nullptr,
     &Thresholds::spike_times},
    {{"stripe", "m", "rows or columns stand off both neighbours by at least this", 0.5, 0.05, 0.05},
     &Thresholds::stripe,
     nullptr},
    {{"step", "m", "a straight step of the ground", 1, 0.1, 0.1}, &Thresholds::step, nullptr},
    {{"ripple", "m", "amplitude of a regular ripple across rows or columns", 0.2, 0.02, 0.02},
     &Thresholds::ripple,
     nullptr},
    {{"seam", "m", "median step between two sources", 0.5, 0.05, 0.05}, &Thresholds::seam, nullptr},
    {{"offset", "m", "median difference between two surveys", 0.5, 0.05, 0.05}, &Thresholds::offset, nullptr},
    {{"shift", "cells", "horizontal shift between two tiles", 0.5, 0.15, 0.15}, nullptr, &Thresholds::shift},
    {{"tilt", "m", "tilt of the difference between two surveys, from end to end of their overlap", 1, 0.1, 0.1},
     &Thresholds::tilt,
     nullptr},
    {{"repeated", "", "share of lines that repeat the one before (nearest neighbour)", 0.05, 0.01, 0.01},
     nullptr,
     &Thresholds::repeated},
    {{"terraces", "", "share of equal neighbours on sloping ground (heights kept in coarse steps)", 0.6, 0.3, 0.3},
     nullptr,
     &Thresholds::terraces},
    {{"flat", "cells", "size of a flat patch that is told", 10000, 2000, 500}, nullptr, &Thresholds::flat_cells},
    {{"plane", "cells", "size of a tilted plane, as between far points, that is told", 2000, 400, 200},
     nullptr,
     &Thresholds::planar_cells},
    {{"void", "cells", "size from which a void inside is a failure", 100, 1, 1}, nullptr, &Thresholds::void_cells},
    {{"coverage", "", "share of the area that must have values", 0.95, 1, 1}, nullptr, &Thresholds::coverage},
    {{"uphill", "m", "rise of the ground along a stream line", 1, 0.1, 0.1}, &Thresholds::uphill, nullptr},
    {{"too-sure", "times", "cells scatter from one to the next by more than their uncertainties allow", 10, 3, 2},
     nullptr,
     &Thresholds::too_sure},
    {{"density", "", "share of squares that reach the nominal density of points", 0.75, 0.9, 0.95},
     nullptr,
     &Thresholds::density},
    {{"gap", "spacings", "width of a gap between points", 20, 8, 5}, nullptr, &Thresholds::gap},
}};
constexpr std::size_t kKnown = 19;

void assign(Thresholds& t, const ThresholdEntry& e, double value) {
  if (e.length)
    t.*e.length = Length::metres(value);
  else
    t.*e.number = value;
}

}  // namespace

const char* name_of(Profile p) {
  return p == Profile::Quick ? "quick" : p == Profile::Survey ? "survey" : "navigation";
}

Profile parse_profile(std::string_view text) {
  for (Profile p : {Profile::Quick, Profile::Survey, Profile::Navigation})
    if (text == name_of(p)) return p;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a profile", text), {},
              "use quick, survey or navigation");
}

Thresholds Thresholds::of(Profile profile) {
  Thresholds t;
  t.profile = profile;
  for (std::size_t i = 0; i < kKnown; ++i) {
    const ThresholdInfo& f = kThresholdEntries[i].info;
    assign(t, kThresholdEntries[i],
           profile == Profile::Quick    ? f.quick
           : profile == Profile::Survey ? f.survey
                                        : f.navigation);
  }
  return t;
}

void Thresholds::set(std::string_view name, std::string_view value) {
  std::string known;
  for (std::size_t i = 0; i < kKnown; ++i) {
    const ThresholdEntry& e = kThresholdEntries[i];
    known += (known.empty() ? "" : ", ") + std::string(e.info.name);
    if (name != e.info.name) continue;
    if (e.length) {
      this->*e.length = Length::parse(value);
      return;
    }
    const auto v = parse_number(value);
    if (!v || *v < 0)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no number for the threshold {}", value, name), {},
                  "give a plain number");
    this->*e.number = *v;
    return;
  }
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a threshold", name), {}, "known are " + known);
}

std::span<const ThresholdInfo> threshold_table() {
  static const auto table = [] {
    std::array<ThresholdInfo, kKnown> t{};
    for (std::size_t i = 0; i < kKnown; ++i) t[i] = kThresholdEntries[i].info;
    return t;
  }();
  return table;
}

double threshold_value(const Thresholds& t, const ThresholdInfo& info) {
  for (std::size_t i = 0; i < kKnown; ++i)
    if (std::strcmp(kThresholdEntries[i].info.name, info.name) == 0)
      return kThresholdEntries[i].length ? (t.*kThresholdEntries[i].length).metres() : t.*kThresholdEntries[i].number;
  return 0;
}

}  // namespace katoptra
