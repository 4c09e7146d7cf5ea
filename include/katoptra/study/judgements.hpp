// Comparisons, control reports and statistics as text for machines: JSON and tables.
//
//   write_text_file("zones.csv", zones_csv(statistics_by_polygon(dem, parcels)));
#pragma once
#include <string>
#include <vector>

#include "katoptra/check/compare.hpp"
#include "katoptra/check/control.hpp"
#include "katoptra/check/levelling.hpp"
#include "katoptra/check/thresholds.hpp"
#include "katoptra/check/zones.hpp"
#include "katoptra/water/flat_water.hpp"

namespace katoptra {

// JSON objects; numbers that are not known are null. Volumes and areas in cubic and square metres.
std::string error_statistics_json(const ErrorStatistics& s);
std::string comparison_json(const Comparison& c);
std::string standings_json(const std::vector<Standing>& s);
std::string control_json(const ControlReport& r);
std::string levelling_json(const Levelling& l);
std::string statistics_json(const Statistics& s, const Quantity& q, int bins = 50);
std::string zones_json(const std::vector<ZoneStatistics>& zones);
std::string levels_json(const std::vector<LevelVolumes>& levels);
// The shift that was found, as the file that `correct --by` reads.
std::string correction_json(const Correction& c);
Correction read_correction(const std::string& text, const std::string& file);

// One line of what was done to a survey, and one about all overlaps.
std::string levelling_text(const SurveyLevel& survey);
std::string overlaps_text(const Levelling& l);

// One line of what was done to a body of water: its name, if it has one, level and what it covers; what may be wrong
// with it, empty when nothing is; and all of them as JSON and back, without their shapes.
std::string water_text(const LaidBody& body, const std::string& unit);
std::string water_doubt(const LaidBody& body, const std::string& unit);
std::string water_json(const std::vector<LaidBody>& bodies);
std::vector<LaidBody> water_from_json(const std::string& text);

// name,x,y,cover,known,value,residual,outlier; in the CRS and unit of the surface.
std::string control_csv(const ControlReport& report);
// zone,cells,voids,area_m2,lowest,highest,mean,deviation,p5,median,p95
std::string zones_csv(const std::vector<ZoneStatistics>& zones);
// level,area_above_m2,area_below_m2,volume_above_m3,volume_below_m3, and their 95 % where the surface carries its
// uncertainty (give_or_take_above_m3, give_or_take_below_m3); with a column `zone` in front where one is named.
std::string levels_csv(const std::vector<LevelVolumes>& levels, const std::string& zone = {});
// measure,value,unit: cells, voids, range, mean, deviation and percentiles.
std::string statistics_csv(const Statistics& s, const Quantity& q);
// from,to,cells: the full or the robust range in even bins.
std::string histogram_csv(const Statistics& s, int bins, bool robust);

}  // namespace katoptra
