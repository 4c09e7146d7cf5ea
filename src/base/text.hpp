// Small things done to names in several rooms.
#pragma once
#include <algorithm>
#include <cctype>
#include <filesystem>
#include <string>

namespace katoptra {

inline std::string lower_case(std::string s) {
  std::transform(s.begin(), s.end(), s.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return s;
}

// ".tif" for "DEM.TIF"
inline std::string lower_extension(const std::filesystem::path& path) { return lower_case(path.extension().string()); }

}  // namespace katoptra
