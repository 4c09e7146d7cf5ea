// Zip archives, entry by entry, the same bytes every time.
#pragma once
#include <cstdint>
#include <memory>
#include <span>
#include <string>

#include "katoptra/formats/bytes.hpp"

struct archive;

namespace katoptra {

class ZipWriter {
 public:
  // Into `sink`, which must outlive it. `file`: for messages.
  ZipWriter(ByteSink& sink, std::string file);
  void add(const std::string& name, std::span<const std::uint8_t> bytes);
  void add(const std::string& name, const std::string& text);
  // Returns the size of the archive.
  std::uint64_t finish();

 private:
  [[noreturn]] void refuse() const;

  ByteSink& sink_;
  std::string file_;
  std::uint64_t at_ = 0;
  bool open_ = false;
  std::unique_ptr<archive, int (*)(archive*)> archive_;
};

}  // namespace katoptra
