// What the values of a grid mean, in which unit, and how they are kept in files.
//
//   Quantity feet{.kind = QuantityKind::Height, .unit = LengthUnit::Foot, .unit_known = true};
//   unit_name(feet);                     // "ft"
#pragma once
#include <cstdint>
#include <span>
#include <string>

#include "katoptra/base/units.hpp"
#include "katoptra/geo/crs.hpp"

namespace katoptra {

enum class QuantityKind {
  Unknown,
  Height,
  Slope,
  Aspect,
  Shade,
  Roughness,
  Code,
  Uncertainty,
  Difference,
  Curvature,
  Ruggedness,
  Position,
  Openness,
  SkyView,
  Landform,         // ten forms, by lines of sight (terrain/sight.hpp)
  SlopePosition,    // six places on a slope
  LandformByScale,  // ten forms, by position near and far
  Shadow,
  FlowDirection,
  Upstream,  // what drains to a cell
  Wetness,
  Chance  // that something is so: percent
};
enum class SurfaceKind { Unknown, Ground, FirstReturn, SeaFloor };

struct Quantity {
  QuantityKind kind = QuantityKind::Height;
  // Heights: the unit of length of the values. `unit_known` is false when the source did not say and metres are taken.
  LengthUnit unit = LengthUnit::Metre;
  bool unit_known = false;
  // Other quantities: "degree", "percent", "" ...
  std::string other_unit;
  HeightReference heights;
  SurfaceKind surface = SurfaceKind::Unknown;
  bool operator==(const Quantity&) const = default;
};

// How the numbers of a quantity are coloured on maps.
enum class Colouring { LandAndSea, Plain, AroundZero, Directions, Grey, Classes, Magnitudes };
Colouring colouring_of(QuantityKind kind);

// Values that are classes: what the codes 1, 2, ... mean, in their order; empty for quantities that are measured.
std::span<const char* const> classes_of(QuantityKind kind);
// Names, not amounts: neighbours must not be mixed when such a grid is resampled.
bool is_coded(QuantityKind kind);

// Its values are lengths in the unit of heights.
bool is_length(QuantityKind kind);

// "height", "slope" ...
const char* name_of(QuantityKind kind);
QuantityKind quantity_kind_from(std::string_view name);
// "unknown", "ground", "first return", "sea floor"
const char* name_of(SurfaceKind kind);
SurfaceKind surface_kind_from(std::string_view name);
// "m", "ft", "degree" ...
std::string unit_name(const Quantity& q);
// What says how sure such values are: in their unit.
Quantity uncertainty_of(const Quantity& q);

// How values are kept in a file. In memory every value is a 32-bit float (24 significant bits) and a void is NaN;
// the sample type travels along so that integers are written as integers while no step makes fractions.
enum class SampleType : std::uint8_t { UInt8, Int8, UInt16, Int16, UInt32, Int32, UInt64, Int64, Float32, Float64 };
int bytes_per_sample(SampleType t);
bool is_integer(SampleType t);
const char* name_of(SampleType t);  // "int16", "float32" ...
// Smallest and largest value of an integer type, as double.
double lowest_of(SampleType t);
double highest_of(SampleType t);
// The narrowest type that holds the values of both without loss.
SampleType common_type(SampleType a, SampleType b);

}  // namespace katoptra
