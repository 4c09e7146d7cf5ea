// What the pages of a run show of it: its surface, its reference, its products, its findings and control points.
#pragma once
#include "katoptra/grid/grid.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/view/page.hpp"

namespace katoptra {

// Pins: findings with a place first, in their order, then control points. Products that cannot be opened are left out.
SurfacePage page_of_run(const Study& study, const StudyRun& run, const Grid& surface, const RunOptions& options);

}  // namespace katoptra
