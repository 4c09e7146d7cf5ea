// Products of a study in which the surface leaves the house: pictures, solids, sheets of cross sections.
#pragma once
#include <filesystem>
#include <optional>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

void write_picture_of(const StudyProduct& p, const Grid& surface, const std::vector<MapOverlay>& overlays,
                      const std::filesystem::path& to, bool overwrite, const RunOptions& run);
void write_solid_of(const StudyProduct& p, const Grid& surface, const std::filesystem::path& to, bool overwrite,
                    const RunOptions& run);
// What was drawn, for the report; without bytes where it is a table or lines.
Picture write_cross_sections_of(const StudyProduct& p, const Grid& surface, const std::filesystem::path& to,
                                bool overwrite, const RunOptions& run);
// Levels told as depths, too.
void add_depths(Layer& contours);
double width_to_height(const Frame& f);
// What is wrong with such a product, before the surface is made.
std::optional<Error> why_not_leaving(const StudyProduct& p, const Frame& surface);

}  // namespace katoptra
