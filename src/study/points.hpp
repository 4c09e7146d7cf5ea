// Points as tiles of a study.
#pragma once
#include "katoptra/study/study.hpp"

namespace katoptra {

// The surface of one [[points]] table; points are read when its first cell is. `heights`: what they are brought to.
Grid surface_of(const StudyPoints& points, const HeightReference& heights, const RunOptions& run);

}  // namespace katoptra
