// Points over Kessa Inlet as a scanner and an echo sounder would have measured them, drawn from the truth.
#pragma once
#include <filesystem>

#include "katoptra/geo/crs.hpp"
#include "katoptra/points/points.hpp"

namespace marrowick {

// The corner of the sheets and their edge: two by two of them.
inline constexpr double kSheetsWest = 677200, kSheetsNorth = 5841850, kSheetEdge = 500;

// All lidar points of 2022 in the order of the flight, with their true classes, in EPSG:32725 and above EGM2008.
katoptra::PointBatch lidar_points();
katoptra::PointInfo lidar_info();

// The survey as it is delivered: four sheets in LAZ, the south-eastern one not classified.
void draw_lidar(const std::filesystem::path& folder);
// Soundings from a boat along the shore: text with depths below chart datum, kChartDatum below EGM2008's zero.
inline constexpr double kChartDatum = 0.62;
void draw_soundings(const std::filesystem::path& folder);

}  // namespace marrowick
