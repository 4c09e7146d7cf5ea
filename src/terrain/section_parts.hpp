// What a section is as lines.
#pragma once
#include <vector>

#include "katoptra/terrain/section.hpp"

namespace katoptra {

// The parts between voids that have two points or more, with their heights and the properties from, length, unit.
std::vector<Feature> parts_of(const Section& s);

}  // namespace katoptra
