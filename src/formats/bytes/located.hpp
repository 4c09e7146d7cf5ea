// A file with what lies beside it, whether in a folder or in an archive.
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/formats/bytes.hpp"

namespace katoptra {

inline constexpr int kMostNested = 4;  // archives within archives that are followed

struct Located {
  std::shared_ptr<ByteSource> bytes;
  std::string name;  // the file's own name, "tile.bil"
  // The file of that name in the same folder; null when there is none.
  std::function<std::shared_ptr<ByteSource>(const std::string& name)> beside;
  // On the disk as it stands; empty for what lies in an archive.
  std::filesystem::path path;
  std::filesystem::path on_disk;  // the file or the archive it lies in
  std::string packing;            // "zip", "tar.gz" ...; empty when there is none

  // The neighbour with another extension (".hdr" finds tile.hdr, tile.HDR and tile.bil.hdr); null when there is none.
  std::shared_ptr<ByteSource> with_extension(const std::string& extension) const;
  // Its text; nullopt when there is none or it is longer than a mebibyte.
  std::optional<std::string> text_with_extension(const std::string& extension) const;
};

// The file of a path that may lead into archives: "county.zip/north.zip/tile.tif". An archive itself stands for the one
// grid, or file of points, inside; Unsupported, naming them, when there are several.
Located locate(const std::filesystem::path& path);
// A file that was opened already, whether or not it is an archive.
Located as_it_stands(std::shared_ptr<ByteSource> bytes, const std::filesystem::path& path);
bool is_archive_name(const std::string& name);
// By name alone: what could be a grid inside an archive.
bool is_grid_name(const std::string& name);
// What could be points (LAS, LAZ).
bool is_point_name(const std::string& name);

}  // namespace katoptra
