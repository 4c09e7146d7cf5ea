// Surveys that overlap, brought to one level: an offset for each, or a plane, so that they agree where they meet.
//
//   const std::vector<Grid> tiles{new_survey, old_survey};
//   Levelling l = level(tiles, {.fit = LevelFit::Offsets, .hold = {"Marrowick ground 2022"}});
//   l.surveys[1].offset;                             // what is added to it: -0.18 m, give or take l.surveys[1].error
//   Grid whole = mosaic(levelled(tiles, l));         // its lineage says by how much each was moved
//
// One adjustment of all overlaps at once by least squares (Gauss 1809; as block adjustment, Kornus & Ruiz 2003), robust
// by weights that fall with the residual (Beaton & Tukey 1974): overlaps are sampled in patches of up to kLevelPatch
// cells on the coarser lattice of each two, whose differences' robust mean is one observation. What has changed on the
// ground between two surveys stands off and loses its weight. The level itself must be held by something: surveys that
// are right as they are, or control points. Surveys that no chain of overlaps joins to what is held cannot be known;
// they are named and stay as they are. A slope that is known no better than kLevelMisfit at the far edge, and does not
// show (kLevelShown times its standard error), is not taken: narrow overlaps would be drawn out into anything.
//
// Guarantees: the same bits for every thread count. Cost: at most kLevelPatches patches of all overlaps are read, at
// least kLeastPatches of each; memory for these and for one sparse system of three unknowns a survey.
//
// Not measured: a shift on the ground (check/coregister.hpp), and errors that bend within a survey. Pairs of which one
// is of the ground and the other of first returns are left out, for what stands between them is no error.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/check/control.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/surface/correct.hpp"

namespace katoptra {

inline constexpr std::int64_t kLevelPatch = 32, kLevelPatches = 200'000, kLeastPatches = 12, kMostPatches = 400;
inline constexpr double kLevelShown = 3;
inline constexpr double kLevelMisfit = 0.02;  // metres that two levelled surveys may differ by before it is told

enum class LevelFit { Offsets, Planes };
// "offsets", "planes"; BadArgument otherwise.
LevelFit parse_level_fit(std::string_view text);

struct LevelOptions {
  LevelFit fit = LevelFit::Offsets;
  std::vector<std::string> hold;        // surveys or tiles, by name, that are right
  const ControlSet* control = nullptr;  // points that are right; those under vegetation are not used
  bool each_tile = false;               // tiles of one survey are levelled one by one, too
  RunOptions run;
};

// What becomes of one survey: its tiles move together.
struct SurveyLevel {
  std::string name;
  std::vector<std::size_t> tiles;
  bool held = false;         // nothing is done to it
  bool known = true;         // overlaps or control points join it to what is held
  Correction correction;     // nothing where it is held or not known
  Length offset, error;      // added in the middle of the survey, and its standard error
  Length edge, edge_error;   // by how much its plane rises from the middle to the far edge; zero for an offset
  std::int64_t control = 0;  // points on it that took part
};

// Where two surveys meet.
struct OverlapLevel {
  std::size_t first = 0, second = 0;  // into Levelling::surveys
  std::int64_t patches = 0, cells = 0;
  Length before, after;  // median difference, first less second
  Length error;          // standard error of that difference
  double off = 0;        // share of its patches that stand off, where the ground has changed
  bool fits = true;      // `after` is no more than kLevelMisfit, or three times its error
};

struct Levelling {
  LevelFit fit = LevelFit::Offsets;
  std::vector<SurveyLevel> surveys;    // in the order of their first tile
  std::vector<OverlapLevel> overlaps;  // by their surveys
  std::vector<std::string> notes;      // what does not fit, and what cannot be known
};

// BadArgument when nothing is held, or a name to be held is that of no survey and no tile; Refused when tiles have no
// CRS, count from different references, or are no heights.
Levelling level(const std::vector<Grid>& tiles, const LevelOptions& options);

// The tiles with their corrections; those of which nothing is known, and those that are held, as they are.
std::vector<Grid> levelled(const std::vector<Grid>& tiles, const Levelling& levelling);

}  // namespace katoptra
