// GeoTIFF reading; see grid_file.hpp.
#pragma once
#include <memory>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"

namespace katoptra {

// `shared`: what the file says; the caller completes name, date guess and assigned references.
GridFile open_tiff(const std::shared_ptr<ByteSource>& bytes);
GridFile open_hgt(const std::shared_ptr<ByteSource>& bytes, const std::string& name);
// "S38W032" at the front of a file name; nullopt when it is not one.
bool is_hgt_name(const std::string& name);

}  // namespace katoptra
