#include "levels.hpp"

#include <fmt/format.h>

#include "katoptra/formats/vector_file.hpp"

namespace katoptra {

ControlSet control_of(const Study& study, const Crs& crs) {
  ControlSet set = control_from(read_layer(study.control, study.control_crs.value_or(crs)));
  if (study.control_heights) set.heights = *study.control_heights;
  if (study.control_unit) set.unit = study.control_unit;
  set.error = study.control_error;
  return set;
}

Levelling level_of(const Study& study, const std::vector<Grid>& tiles, const RunOptions& run) {
  std::optional<ControlSet> control;
  if (study.level->by_control) control = control_of(study, tiles[0].frame().crs());
  return level(tiles, {.fit = study.level->fit,
                       .hold = study.level->hold,
                       .control = control ? &*control : nullptr,
                       .each_tile = study.level->each_tile,
                       .run = run});
}

std::string step_of_levelling(const Study& study) {
  std::string held;
  for (const std::string& name : study.level->hold) held += (held.empty() ? "" : ", ") + name;
  if (study.level->by_control) held += (held.empty() ? "" : ", ") + study.control.filename().string();
  return fmt::format("bring the surveys to one level ({}), held by {}",
                     study.level->fit == LevelFit::Planes ? "planes" : "offsets", held);
}

}  // namespace katoptra
