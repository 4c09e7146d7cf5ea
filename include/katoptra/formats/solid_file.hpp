// Solids in files: .stl (binary), .3mf (with its unit), .obj, .glb (binary glTF, with a picture on the ground).
//
//   SolidReport r = write_solid(surface_solid(dem, {.scale = 5000}), "inlet.3mf");
//
// Millimetres, z up; glTF wants metres and y up and gets them. A file is written whole or not at all. Water that is a
// body of its own is an object of a 3MF, a group of an OBJ, clear in glTF; STL knows one body, so the water is a file
// of its own beside it (inlet-water.stl).
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "katoptra/grid/image.hpp"
#include "katoptra/terrain/solid.hpp"

namespace katoptra {

struct SolidWriteOptions {
  bool overwrite = false;
  const PlacedImage* picture = nullptr;  // of .glb: over the whole frame of the surface
};
struct SolidReport {
  std::uint64_t bytes = 0;
  std::string format;
  std::vector<std::filesystem::path> beside = {};  // what was written with it
};

bool solid_named(const std::filesystem::path& name);
// Unsupported for other endings.
SolidReport write_solid(const Solid& solid, const std::filesystem::path& path, const SolidWriteOptions& options = {});

}  // namespace katoptra
