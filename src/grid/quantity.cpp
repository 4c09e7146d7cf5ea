#include "katoptra/grid/quantity.hpp"

#include <algorithm>
#include <array>
#include <utility>

namespace katoptra {
namespace {

struct KindFacts {
  QuantityKind kind;
  const char* name;
  Colouring colouring;
  bool is_length;  // in the unit of heights
};
constexpr std::array<KindFacts, 22> kQuantityKinds{
    {{QuantityKind::Unknown, "unknown", Colouring::Plain, false},
     {QuantityKind::Height, "height", Colouring::LandAndSea, true},
     {QuantityKind::Slope, "slope", Colouring::Plain, false},
     {QuantityKind::Aspect, "aspect", Colouring::Directions, false},
     {QuantityKind::Shade, "shade", Colouring::Grey, false},
     {QuantityKind::Roughness, "roughness", Colouring::Plain, true},
     {QuantityKind::Code, "code", Colouring::Plain, false},
     {QuantityKind::Uncertainty, "uncertainty", Colouring::Plain, true},
     {QuantityKind::Difference, "difference", Colouring::AroundZero, true},
     {QuantityKind::Curvature, "curvature", Colouring::AroundZero, false},
     {QuantityKind::Ruggedness, "ruggedness", Colouring::Plain, false},
     {QuantityKind::Position, "position", Colouring::AroundZero, false},
     {QuantityKind::Openness, "openness", Colouring::Plain, false},
     {QuantityKind::SkyView, "sky view", Colouring::Grey, false},
     {QuantityKind::Landform, "landform", Colouring::Classes, false},
     {QuantityKind::SlopePosition, "slope position", Colouring::Classes, false},
     {QuantityKind::LandformByScale, "landform by scale", Colouring::Classes, false},
     {QuantityKind::Shadow, "shadow", Colouring::Classes, false},
     {QuantityKind::FlowDirection, "flow direction", Colouring::Classes, false},
     {QuantityKind::Upstream, "upstream", Colouring::Magnitudes, false},
     {QuantityKind::Wetness, "wetness", Colouring::Plain, false},
     {QuantityKind::Chance, "chance", Colouring::Plain, false}}};

constexpr const char* kLandforms[] = {"flat",  "summit", "ridge",     "shoulder", "spur",
                                      "slope", "hollow", "footslope", "valley",   "pit"};
constexpr const char* kSlopePositions[] = {"valley", "lower slope", "flat", "middle slope", "upper slope", "ridge"};
constexpr const char* kDirections[] = {"north",      "north-east", "east",       "south-east", "south",
                                       "south-west", "west",       "north-west", "leaves",     "ends"};
constexpr const char* kShadow[] = {"shadow", "light"};
constexpr const char* kLandformsByScale[] = {
    "canyon, deep stream", "drainage on a slope", "drainage high up", "open valley",      "plain",
    "open slope",          "upper slope, mesa",   "hill in a valley", "ridge on a slope", "high ridge"};

const KindFacts& facts(QuantityKind k) { return kQuantityKinds[static_cast<std::size_t>(k)]; }

struct TypeFacts {
  SampleType type;
  const char* name;
  int bytes;
  bool integer;
  double lowest, highest;
};
constexpr std::array<TypeFacts, 10> kTypes{
    {{SampleType::UInt8, "uint8", 1, true, 0, 255},
     {SampleType::Int8, "int8", 1, true, -128, 127},
     {SampleType::UInt16, "uint16", 2, true, 0, 65535},
     {SampleType::Int16, "int16", 2, true, -32768, 32767},
     {SampleType::UInt32, "uint32", 4, true, 0, 4294967295.0},
     {SampleType::Int32, "int32", 4, true, -2147483648.0, 2147483647.0},
     {SampleType::UInt64, "uint64", 8, true, 0, 18446744073709551615.0},
     {SampleType::Int64, "int64", 8, true, -9223372036854775808.0, 9223372036854775807.0},
     {SampleType::Float32, "float32", 4, false, -3.4028234663852886e38, 3.4028234663852886e38},
     {SampleType::Float64, "float64", 8, false, -1.7976931348623157e308, 1.7976931348623157e308}}};

const TypeFacts& facts(SampleType t) { return kTypes[static_cast<std::size_t>(t)]; }

constexpr const char* kSurfaces[] = {"unknown", "ground", "first return", "sea floor"};

}  // namespace

const char* name_of(QuantityKind kind) { return facts(kind).name; }

Colouring colouring_of(QuantityKind kind) { return facts(kind).colouring; }

std::span<const char* const> classes_of(QuantityKind kind) {
  switch (kind) {
    case QuantityKind::Landform:
      return kLandforms;
    case QuantityKind::SlopePosition:
      return kSlopePositions;
    case QuantityKind::LandformByScale:
      return kLandformsByScale;
    case QuantityKind::Shadow:
      return kShadow;
    case QuantityKind::FlowDirection:
      return kDirections;
    default:
      return {};
  }
}

bool is_coded(QuantityKind kind) { return kind == QuantityKind::Code || !classes_of(kind).empty(); }

QuantityKind quantity_kind_from(std::string_view name) {
  for (const KindFacts& k : kQuantityKinds)
    if (name == k.name) return k.kind;
  return QuantityKind::Unknown;
}

const char* name_of(SurfaceKind kind) { return kSurfaces[static_cast<std::size_t>(kind)]; }

SurfaceKind surface_kind_from(std::string_view name) {
  for (std::size_t i = 0; i < std::size(kSurfaces); ++i)
    if (name == kSurfaces[i]) return static_cast<SurfaceKind>(i);
  return SurfaceKind::Unknown;
}

bool is_length(QuantityKind kind) { return facts(kind).is_length; }

std::string unit_name(const Quantity& q) {
  const bool of_something_else = q.kind == QuantityKind::Uncertainty && !q.other_unit.empty();
  if (facts(q.kind).is_length && !of_something_else) return symbol(q.unit);
  return q.other_unit;
}

Quantity uncertainty_of(const Quantity& q) {
  return {.kind = QuantityKind::Uncertainty,
          .unit = q.unit,
          .unit_known = q.unit_known,
          .other_unit = is_length(q.kind) ? "" : unit_name(q)};
}

int bytes_per_sample(SampleType t) { return facts(t).bytes; }
bool is_integer(SampleType t) { return facts(t).integer; }
const char* name_of(SampleType t) { return facts(t).name; }
double lowest_of(SampleType t) { return facts(t).lowest; }
double highest_of(SampleType t) { return facts(t).highest; }

SampleType common_type(SampleType a, SampleType b) {
  if (a == b) return a;
  if (!is_integer(a) || !is_integer(b))
    return a == SampleType::Float64 || b == SampleType::Float64 ? SampleType::Float64 : SampleType::Float32;
  for (SampleType t : {SampleType::UInt8, SampleType::Int8, SampleType::UInt16, SampleType::Int16, SampleType::UInt32,
                       SampleType::Int32, SampleType::Int64})
    if (lowest_of(t) <= std::min(lowest_of(a), lowest_of(b)) && highest_of(t) >= std::max(highest_of(a), highest_of(b)))
      return t;
  return SampleType::Float64;
}

}  // namespace katoptra
