// What a study says of control points, and how it levels its tiles by them.
#pragma once
#include <vector>

#include "katoptra/study/study.hpp"

namespace katoptra {

// Its control points; `crs`: theirs, where neither they nor the study say.
ControlSet control_of(const Study& study, const Crs& crs);
// BadFile when the study asks for none.
Levelling level_of(const Study& study, const std::vector<Grid>& tiles, const RunOptions& run);
// "bring 3 surveys to one level (offsets), held by Marrowick ground 2022 and control points"
std::string step_of_levelling(const Study& study);

}  // namespace katoptra
