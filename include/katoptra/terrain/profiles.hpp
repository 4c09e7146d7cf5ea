// Sections for engineers: several surfaces along one line, many lines across one, cut and fill, corridors.
//
//   Profiles p = profiles({{"before", old_survey}, {"after", new_survey}}, line);
//   CutFill along = cut_and_fill(p.surfaces[0].section, p.surfaces[1].section);
//   for (const CrossLine& c : cross_lines(dem.frame().crs(), line, 50_m, 80_m)) use(profiles({{"", dem}}, c.line));
//   Profiles swath = swath_profiles(dem, line, 40_m);       // lowest, mean and highest in a corridor
//
// All surfaces have the heights, the unit and the places of the first: heights are brought to its reference and unit,
// and places to the CRS of each. A surface has no value where it is void or does not reach.
#pragma once
#include <string>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/terrain/section.hpp"

namespace katoptra {

inline constexpr int kMostProfiles = 8;  // surfaces in one section
inline constexpr std::size_t kMostCrossLines = 2000;

struct NamedGrid {
  std::string name;
  Grid grid;
};
struct NamedSection {
  std::string name;
  Section section;
};
// Something on the line: a waypoint near it, a stream that crosses it.
struct LineMark {
  double distance = 0;  // along the line, in the unit of the section
  std::string name;
};
struct Profiles {
  std::string name = {};               // of the line; "0+050" of a cross section
  bool across = false;                 // a cross section
  double station = 0;                  // where that crosses the centre line, in the unit of the section
  std::vector<NamedSection> surfaces;  // the same points in each
  bool corridor = false;               // lowest, mean, highest of one surface
  std::vector<LineMark> marks;
};
// `line` in the CRS of the first grid. Refused for more than kMostProfiles, or where one holds heights and another does
// not.
Profiles profiles(const std::vector<NamedGrid>& grids, const LineString& line, const SectionOptions& options = {});

// Between two surfaces along a line: the areas where the second lies lower (cut) and higher (fill), in squares of the
// unit of distance. Between two points the surfaces are straight; where one is void nothing counts, and `length` says
// how much of the line counted.
struct CutFill {
  double cut = 0, fill = 0, length = 0;
};
CutFill cut_and_fill(const Section& before, const Section& after);
// Of many cross sections, in cubes of the unit: the mean of the areas of two neighbours, times the way between them
// (average end areas).
CutFill volumes_between(const std::vector<Profiles>& cross_sections);

// Lines square to a centre line, from left to right as one walks along it, `width` long with it in the middle, at
// every multiple of `every` from its beginning. The direction at a bend is that of the part which ends there.
struct CrossLine {
  double station = 0;  // metres along the centre line
  LineString line;
};
// BadArgument for lengths that are not above zero; TooLarge beyond kMostCrossLines.
std::vector<CrossLine> cross_lines(const Crs& crs, const LineString& centre, Length every, Length width);
// Profiles along each of them, with their stations. TooLarge beyond kMostCrossPoints points in all.
inline constexpr double kMostCrossPoints = 5e6;
std::vector<Profiles> cross_sections(const std::vector<NamedGrid>& grids, const LineString& centre, Length every,
                                     Length width, const SectionOptions& options = {});
// "1+250": kilometres and metres, or hundreds of feet.
std::string station_name(double station, LengthUnit unit);

// The lowest, the mean and the highest value of a corridor of that width, cell by cell across it, at each point.
Profiles swath_profiles(const Grid& grid, const LineString& line, Length width, const SectionOptions& options = {});

// Points of the layer that lie within `reach` of the line, and where its lines cross; by distance. `line`: the places
// of `section`.
std::vector<LineMark> marks_on(const Section& section, const Layer& layer, Length reach);

// All surfaces as lines with their heights, with the properties station (of cross sections), surface, from, length,
// unit.
Layer profiles_layer(const std::vector<Profiles>& all, const std::string& name);

}  // namespace katoptra
