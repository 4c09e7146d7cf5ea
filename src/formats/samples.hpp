// Samples of files to the floats and voids of blocks, and back.
#pragma once
#include <cstdint>
#include <optional>
#include <string>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/grid/quantity.hpp"

namespace katoptra {

// What a stored sample stands for: value = sample * scale + offset, unless it is the void value. Floats beyond
// kNoValueFrom and infinities are always voids, declared or not: no quantity of terrain is that large, and files that
// print their void value with few digits ("-3.40282e+38") mean it all the same.
struct SampleRule {
  SampleType type = SampleType::Float32;
  std::optional<double> hole;
  double scale = 1, offset = 0;
  bool is_scaled() const { return scale != 1 || offset != 0; }
};
inline constexpr double kNoValueFrom = 1e38;

// `n` samples in the machine's byte order, `stride` samples apart.
void samples_to_floats(const SampleRule& rule, const std::uint8_t* from, std::int64_t stride, std::int64_t n,
                       float* to);

// How a grid is kept in a file.
struct StoredAs {
  SampleType type = SampleType::Float32;
  double void_value = 0;
};
// The type of the grid, and a void value it can hold: the one asked for, the one of the source, or the extreme of the
// type (NaN for floats). BadArgument when the one asked for does not fit.
StoredAs stored_as(const GridInfo& info, const std::optional<double>& void_value, const std::string& file);
// The void value of the file to be is also a value of the data.
struct VoidCollision : Error {
  using Error::Error;
};
// BadArgument when a value does not fit into the type; VoidCollision.
void floats_to_samples(const float* in, std::size_t n, const StoredAs& as, std::uint8_t* out, const std::string& file);

// The facts of a grid whose samples are kept under `rule`: sample type, void value, and a note when numbers change.
void describe_samples(const SampleRule& rule, GridInfo& info);

}  // namespace katoptra
