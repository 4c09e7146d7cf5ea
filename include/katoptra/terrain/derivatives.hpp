// Hillshade, slope, aspect and roughness of a surface.
//
//   Grid shade = hillshade(dem, {.azimuth = 315_deg, .altitude = 45_deg});
//   Grid steep = slope(dem, SlopeAs::Percent);
//   Grid hills = slope(dem, SlopeAs::Degrees, {.window = 21});   // of wide forms, not of furrows
//
// Gradients after Horn 1981 (eight neighbours); for slope and aspect also after Zevenbergen & Thorne 1987 (four
// neighbours), or of a quadric fitted to a window of any odd size (curvature.hpp). Distances are ground distances on
// every CRS: the length of a degree, or the scale factor of the projection, is taken at the place of each cell (exact
// every scale_step(frame) cells, linear between: relative error below 1e-6 in UTM for cells up to 80 m), and heights in
// feet count as feet. So no factor has to be given, whatever the grid is in. A grid without a CRS is taken to be in
// metres. At the rim and beside voids a missing neighbour is continued from the centre and the cell across (exact on a
// plane), so no product loses its edge; a void stays a void. `exaggeration` multiplies heights before shading only.
//
// A hillshade does not blow out: where more than about one cell in a hundred would lie in the dark, light reaches as
// far round the hills as it takes (a lit half that is wider than half), and where more would be as bright as can be,
// all is dimmed a little. That is judged once, when the first cell is read, from some 260,000 cells all over the
// surface. Relief that needs neither is shaded by Lambert's law, unchanged.
#pragma once
#include <optional>
#include <string_view>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class Lights {
  One,
  // Four, 45 degrees apart about the azimuth, each weighted by the square of the sine of the angle between it and the
  // way the ground faces (Mark 1992): ridges that run towards one light are shown by the others.
  Several
};
Lights parse_lights(std::string_view text);  // "one", "several"

// Heights are multiplied so that nine cells in ten are flatter than 31 degrees (56 under several lights), and the tenth
// is not: flat land is seen, and mountains keep their grey. A number of two digits from 0.1 to 50, which a note tells;
// it looks at the surface at once.
inline constexpr double kExaggerationOfSurface = 0;
inline constexpr double kMostExaggerated = 1e4;

// At most this share of the cells is black, and as much white.
inline constexpr double kMostAtAnEnd = 0.02;

struct Light {
  Angle azimuth = Angle::degrees(315);  // where the light comes from, clockwise from grid north
  Angle altitude = Angle::degrees(45);  // above the horizon
  double exaggeration = 1;              // kExaggerationOfSurface: as the surface's slopes need
  Lights lights = Lights::One;
  // A time (sun.hpp): the light is the sun as it stands then over the middle of the grid, instead of azimuth and
  // altitude. Refused without a CRS; BadArgument when the sun is below the horizon.
  std::string sun;
  // What hills between a place and the light take from it: a third of the light is left in their shadow.
  bool shadows = false;
  // How much of the light comes from the whole sky (sight.hpp), 0 to 1: 0 leaves the hollows as they are.
  double sky = 0;
  std::optional<Length> sky_radius;  // as SightOptions::radius
};
// 8-bit, 1 (dark) to 255, void 0 (Lambert's cosine law).
Grid hillshade(const Grid& surface, const Light& light = {});

// Where the light does not come because higher ground stands in its way, however far off: codes 1 shadow, 2 light. A
// ray is followed to where it rises above all that lies before it; the surface is met as by lines of sight (sight.hpp).
// A slope that falls away from the light more steeply than it comes lies in its own shadow. BadArgument for a light on
// or below the horizon.
Grid shadows(const Grid& surface, const Light& light = {});

// How the rise to the east and to the north is taken. Automatic: Horn in a window of 3, else the quadric.
enum class Gradient { Automatic, Horn, ZevenbergenThorne, Quadric };
const char* name_of(Gradient gradient);  // "automatic", "horn", "zevenbergen-thorne", "quadric"
Gradient parse_gradient(std::string_view text);
struct GradientOptions {
  Gradient gradient = Gradient::Automatic;
  int window = 3;  // cells across, odd; above 3 for the quadric alone
};

enum class SlopeAs { Degrees, Percent, Ratio };
SlopeAs parse_slope_as(std::string_view text);  // "degrees", "percent", "ratio"
Grid slope(const Grid& surface, SlopeAs as = SlopeAs::Degrees, const GradientOptions& options = {});

// The direction of steepest descent in degrees clockwise from grid north, 0 to below 360; void on flat ground.
Grid aspect(const Grid& surface, const GradientOptions& options = {});

// The largest difference between neighbours in the 3 x 3 window, in the unit of the heights (Wilson et al. 2007).
Grid roughness(const Grid& surface);

}  // namespace katoptra
