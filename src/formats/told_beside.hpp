// What stands, as JSON, beside a file of a format that cannot say it itself.
#pragma once
#include <filesystem>
#include <optional>
#include <string>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/height_map.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

// Of a height map: heights `low` to `high` are the samples `first` to `last`; what lies at or below zero is `sea`.
struct HeightScale {
  double low = 0, high = 0, first = 0, last = 255;
  std::optional<double> sea;
};

// Quantity, vertical reference and unit, date and survey; nothing where there is nothing to say.
std::string references_beside(const Quantity& quantity, const std::string& date, const std::string& survey);
std::string references_beside(const PointInfo& info);
// How heights become samples: value = zero + step times the sample.
std::string scale_beside(const GridInfo& info, double zero, double step);
std::string scale_beside(const Quantity& quantity, const HeightMapReport& report, const HeightMapOptions& options,
                         const HeightScale& scale);

}  // namespace katoptra
