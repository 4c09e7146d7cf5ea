// What the verbs for points share: which points, and what they are.
#pragma once
#include "katoptra/points/points.hpp"
#include "katoptra/points/summary.hpp"

#include "common.hpp"

namespace katoptra::cli {

struct PointsCommon : Common {
  std::vector<std::string> files, classes, without_classes;
  std::vector<int> lines;
  std::string returns = "all", lowest, highest, spacing, write_columns;
  std::optional<double> from_time, to_time;
  std::uint64_t every = 1;
  bool without_withheld = false, salvage = false;
  bool find_ground = false, find_noise = false, anew = false;
  std::string water_level, above;
  bool around_area = false;  // points around the area count, too: parts are found by place, none is dropped
};

void add_selection(CLI::App& verb, PointsCommon& o);
std::vector<std::string> point_files(const std::vector<std::string>& given);
// All files as one cloud, with references and selection applied.
PointCloud open_selection(const PointsCommon& o, std::vector<std::string>& notes);
// CRS, place, heights and range of points; and all that a pass over them tells.
void state_points(const PointInfo& info, std::uint64_t points, const Bounds& b, double lowest, double highest,
                  Statement& s);
void state_summary(const PointSummary& p, const PointInfo& info, Statement& s);

}  // namespace katoptra::cli
