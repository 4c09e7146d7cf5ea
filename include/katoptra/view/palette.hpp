// Colours for numbers. Ramps are even to the eye: along each of them the lightness of the OKLab space (Ottosson 2020)
// grows by equal steps, so that equal differences of height look equal and a grey print keeps the order.
//
//   Palette p = Palette::land_and_sea(-35, 420);      // two ramps that meet at zero, each over its own range
//   Colour c = p.at(12.5);
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "katoptra/grid/quantity.hpp"

namespace katoptra {

struct Colour {
  double red = 0, green = 0, blue = 0;  // 0..1, sRGB
};
// From OKLab's lightness (0..1), chroma and hue (degrees); cut to what a screen can show.
Colour from_oklch(double lightness, double chroma, double hue);
// OKLab lightness of a colour.
double lightness_of(Colour c);
// The same hue, lighter or darker: lightness times `factor`.
Colour shaded(Colour c, double factor);

// "#rrggbb"; nothing for other text.
std::optional<Colour> parse_colour(std::string_view text);

class Palette;
// A ramp as text: a line each with a value and a colour (#rrggbb, or red, green and blue from 0 to 255), ascending; #
// at the beginning of a line or blanks pass. BadFile with the line.
Palette parse_ramp(std::string_view text, const std::string& file);

class Palette {
 public:
  // Land from dark moss to pale sand, sea from deep to shallow blue; they part at the shore. A range on one side uses
  // one ramp.
  static Palette land_and_sea(double lowest, double highest, double shore = 0);
  // One ramp for quantities without a zero (slope, roughness, uncertainty).
  static Palette plain(double lowest, double highest);
  // Two ramps away from zero, plum below and teal above, pale where nothing differs; the same reach on both sides.
  static Palette around_zero(double most);
  // Around the circle, for directions in degrees.
  static Palette directions();
  static Palette grey(double lowest, double highest);
  // Through these colours, evenly to the eye between two; two at one value make a sharp change. BadArgument for fewer
  // than two and for values that do not ascend.
  static Palette through(const std::vector<std::pair<double, Colour>>& stops);
  // One colour between each two breaks, below the first and above the last; evenly along the ramp, on each side of
  // `middle` (zero, or the shore) apart.
  static Palette stepped(const Palette& ramp, const std::vector<double>& breaks, double middle = 0);
  // A colour for each code of classes_of(kind): high ground warm, low ground cool, level ground pale.
  static Palette classes(QuantityKind kind);

  // White for NaN. The second: as under more or less light, the colour's OKLab lightness times `light`.
  Colour at(double value) const { return at(value, 1); }
  Colour at(double value, double light) const;
  double lowest() const { return lowest_; }
  double highest() const { return highest_; }
  // Of a stepped one; else none.
  const std::vector<double>& breaks() const { return breaks_; }

 private:
  struct Stop {
    double value, lightness, chroma, hue;
  };
  std::vector<Stop> stops_;  // ascending; two stops with one value make a sharp change
  double lowest_ = 0, highest_ = 1;
  std::vector<double> breaks_;
};

}  // namespace katoptra
