#pragma once
#include <filesystem>
#include <memory>

#include "katoptra/formats/bytes.hpp"

namespace katoptra {
// open_file for what lies on a disk; it knows no web addresses.
std::shared_ptr<ByteSource> open_on_disk(const std::filesystem::path& path);
}  // namespace katoptra
