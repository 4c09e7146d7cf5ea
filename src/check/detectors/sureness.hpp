// What a surface states of itself, judged.
#pragma once
#include "check/detectors/detector.hpp"

namespace katoptra {

// Of a surface that carries its uncertainty, in a pass of its own. `too_sure`: times that cells may scatter by more
// than they allow.
void judge_sureness(Scene& scene, double height_range, double too_sure, const RunOptions& run);

}  // namespace katoptra
