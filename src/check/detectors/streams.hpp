// Water that runs uphill along given stream lines.
#pragma once
#include "katoptra/geo/feature.hpp"

#include "detector.hpp"

namespace katoptra {

void judge_streams(Scene& scene, const Layer& streams, const RunOptions& run);

}  // namespace katoptra
