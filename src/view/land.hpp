// The land of a picture: values at the size of pixels, and the colours they have.
#pragma once
#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <vector>

#include "katoptra/grid/grid.hpp"
#include "katoptra/grid/image.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

// A frame whose cells are pixels, as high as wide on the ground.
Frame pixel_frame(const Frame& f, double width);
// A grid at the size of pixels, lazily. Where pixels are finer than cells, bilinear: a picture must not add swings.
Grid at_pixels(const Grid& grid, const Frame& to);
// Cells that are the mean of `by` times `by` from the upper left corner, lazily; at the far edges of what is there.
Grid coarser(const Grid& grid, std::int64_t by);
// One without a CRS as if it lay somewhere; others as they are.
Grid somewhere(const Grid& grid);

// What a picture of 1200 pixels shows of a grid: enough to know the range of its colours.
std::vector<float> sample_of(const Grid& grid, const RunOptions& run);
// All values of a grid, row by row.
std::vector<float> values_of(const Grid& grid, const RunOptions& run);

// How a kind of quantity is coloured over the range that some of its pixels show.
class LandColours {
 public:
  // `values`: of a picture of all of it.
  LandColours(const Quantity& quantity, const std::vector<float>& values, const LandLook& look = {});

  const Palette& palette() const { return palette_; }
  // Colours go by the power of ten.
  bool magnitudes() const { return !own_ && colouring_of(kind_) == Colouring::Magnitudes; }
  // Of a value; `light`: 1 to 255 of a hillshade, 0 for none.
  Colour at(float value, float light) const;
  // The same as red, green and blue bytes, from a table of kSteps values on either side of the shore for each light: at
  // most a level of 255 off. prepare() makes the table, for light 0 alone where there is none.
  void prepare(bool lit);
  bool is_prepared() const { return !table_.empty(); }
  const std::array<std::uint8_t, 3>& bytes(float value, float light) const;

 private:
  static constexpr int kSteps = 1024;

  QuantityKind kind_;
  bool own_ = false;  // a ramp or classes of the user's
  Palette palette_;
  std::vector<std::array<std::uint8_t, 3>> table_;
  int lights_ = 1;
  double low_ = 0, high_ = 0, middle_ = 0;  // of the table, as values or powers
};

// The light that heights are shown under, 1 to 255; level ground has the same under each kind.
Grid light_over(const Grid& pixels, const LandLook& look);
// Whether the look lights values of this kind.
bool is_lit(const LandLook& look, const Quantity& quantity);

// So many pixels along a cell of the frame, on the same ground.
Frame finer(const Frame& frame, int times);

// The colours of what is laid over the land as a grid, for all sheets of a map.
class RasterColours {
 public:
  RasterColours(const std::vector<MapOverlay>& overlays, const RunOptions& run);
  // Null where it has none: pictures and light.
  const LandColours* of(const MapOverlay& o) const;

 private:
  std::map<const MapOverlay*, LandColours> known_;
};

// Rasters on the pixels of a sheet or a picture: what they look up of their grids is looked up once, however many parts
// are drawn. `lost`: the CRS of the pixels is made up, so only what has none lies on them.
class RasterPixels {
 public:
  RasterPixels(const std::vector<MapOverlay>& overlays, const RasterColours& colours, const Frame& pixels, bool lost);
  const Frame& frame() const { return frame_; }
  // A window of one of them: red, green, blue and opacity; empty where it does not lie here.
  Pixels read(const MapOverlay& o, const Window& inside) const;

 private:
  struct Placed {
    const MapRaster* raster;
    const LandColours* colours;
    std::vector<Grid> parts;
    std::optional<Grid> light;
  };
  static void fill(const Placed& p, const Window& inside, std::uint8_t* rgba);

  Frame frame_;
  std::map<const MapOverlay*, Placed> placed_;
};
// All of a grid in the colours that a map of it has, unlit where `look` says so.
Pixels coloured(const Grid& grid, const Frame& pixels, const LandLook& look, const RunOptions& run);

}  // namespace katoptra
