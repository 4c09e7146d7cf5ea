// Lengths and angles that carry their unit, so that a contour interval of one foot cannot become 0.305 of something.
//
//   Length interval = Length::parse("1 ft");     // 0.3048 m exactly
//   Length reach = 250_m;
//   Angle sun = Angle::parse("315deg");
//
// A number becomes a length only by naming its unit and leaves the same way (`length.metres()`). `Length::parse`
// accepts m, km, cm, mm, ft (international, 0.3048 m), ftUS (survey foot, 1200/3937 m), mi and nmi; a bare number
// takes `bare`, or is refused when none is given. Angles: deg or °, ', ", rad, gon; a bare number is degrees.
// Exactness: Length::feet(n).metres() == n * 0.3048 to the last bit of one rounding.
#pragma once
#include <optional>
#include <string>
#include <string_view>

namespace katoptra {

enum class LengthUnit { Metre, Foot, UsFoot };

// Metres in one of the unit.
double metres_per(LengthUnit unit);
// "m", "ft", "ftUS": the symbol used on the command line, in tables and in files.
const char* symbol(LengthUnit unit);
// BadArgument unless it is one of those symbols.
LengthUnit parse_length_unit(std::string_view text);

class Length {
 public:
  constexpr Length() = default;
  static constexpr Length metres(double m) { return Length(m); }
  static constexpr Length feet(double ft) { return Length(ft * 0.3048); }
  static constexpr Length us_feet(double ft) { return Length(ft * 1200.0 / 3937.0); }
  static Length of(double value, LengthUnit unit);
  static Length parse(std::string_view text, std::optional<LengthUnit> bare = std::nullopt);

  constexpr double metres() const { return metres_; }
  // Length::of(n, unit).in(unit) == n for every n with up to nine decimals.
  double in(LengthUnit unit) const;

  constexpr auto operator<=>(const Length&) const = default;
  constexpr Length operator*(double k) const { return Length(metres_ * k); }
  constexpr Length operator-() const { return Length(-metres_); }
  constexpr double operator/(Length other) const { return metres_ / other.metres_; }

 private:
  constexpr explicit Length(double m) : metres_(m) {}
  double metres_ = 0;
};

class Angle {
 public:
  constexpr Angle() = default;
  static constexpr Angle degrees(double d) { return Angle(d); }
  static Angle radians(double r);
  static Angle parse(std::string_view text);

  constexpr double degrees() const { return degrees_; }
  double radians() const;
  constexpr auto operator<=>(const Angle&) const = default;

 private:
  constexpr explicit Angle(double d) : degrees_(d) {}
  double degrees_ = 0;
};

constexpr Length operator""_m(long double m) { return Length::metres(static_cast<double>(m)); }
constexpr Length operator""_m(unsigned long long m) { return Length::metres(static_cast<double>(m)); }
constexpr Length operator""_ft(unsigned long long f) { return Length::feet(static_cast<double>(f)); }
constexpr Angle operator""_deg(long double d) { return Angle::degrees(static_cast<double>(d)); }
constexpr Angle operator""_deg(unsigned long long d) { return Angle::degrees(static_cast<double>(d)); }

// A whole decimal number in `text`, independent of the locale; nullopt when anything else stands there or it is not
// finite.
std::optional<double> parse_number(std::string_view text);

// A longitude or latitude: decimal degrees, or degrees, minutes, seconds with a hemisphere letter (8°30'S, 31 3 0 W).
// BadArgument otherwise.
double parse_degrees(std::string_view text);

// "2G", "512M", "64 KiB": bytes (powers of 1024). BadArgument otherwise.
std::size_t parse_bytes(std::string_view text);
// "12.3 MiB"
std::string format_bytes(double bytes);
// For people: "0.5 m", "30 m", "2.44 km"; three digits, never an exponent between a millimetre and a million
// kilometres.
std::string format_length(Length length);
// "500m2", "10 ha", "2.5km2", "3ac" (the international acre) in square metres. BadArgument otherwise: an area names its
// unit.
double parse_square_metres(std::string_view text);
// "1234 m2", "23.4 km2".
std::string format_area(double square_metres);

}  // namespace katoptra
