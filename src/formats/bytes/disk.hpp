#pragma once
#include <filesystem>
#include <memory>

#include "katoptra/formats/bytes.hpp"

namespace katoptra {
// open_file for what lies on a disk; it knows no web addresses.
std::shared_ptr<ByteSource> open_on_disk(const std::filesystem::path& path);

// A file that will be read, though it is not open all the time: while this lives no output takes its place.
class FileToRead {
 public:
  explicit FileToRead(const std::filesystem::path& path);
  ~FileToRead();
  FileToRead(FileToRead&& other) noexcept;
  FileToRead& operator=(FileToRead&&) = delete;

 private:
  unsigned long long device_ = 0, number_ = 0;
  bool known_ = false;
};
}  // namespace katoptra
