// The one seam between Katoptra and the outside: bytes that can be read at any place, and files that appear under their
// name only when they are whole. Tests put other versions behind both: in memory, failing, short.
//
//   std::shared_ptr<ByteSource> file = open_file("dem.tif");
//   std::vector<std::uint8_t> first = file->head(16);
//   write_text_file("note.txt", "two lines\nof text\n");
#pragma once
#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace katoptra {

class ByteSource {
 public:
  virtual ~ByteSource() = default;
  virtual std::uint64_t size() const = 0;
  // Reads up to out.size() bytes from `offset`; returns how many there were. Thread-safe. Io when reading fails.
  virtual std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const = 0;
  virtual const std::string& name() const = 0;
  // Says that these bytes are wanted soon, so that a slow disk may begin; costs nothing otherwise.
  virtual void will_need(std::uint64_t offset, std::uint64_t bytes) const;
  // Says that all of these bytes will be wanted, sooner or later: what is far away comes in few large pieces then. The
  // disk is not told, for it may be more than fits into memory.
  virtual void expect(std::uint64_t offset, std::uint64_t bytes) const;
  // The day of its last change (ISO) where the source itself knows it.
  virtual std::string changed() const { return {}; }

  // The first `n` bytes, or as many as there are.
  std::vector<std::uint8_t> head(std::size_t n) const;
  // All of out.size() bytes, or BadFile ("ends early").
  void read_exactly(std::uint64_t offset, std::span<std::uint8_t> out) const;
};

// A file on the disk, or a web address (http.hpp). Io when it cannot be opened or is a folder; BadFile when it is
// empty.
std::shared_ptr<ByteSource> open_file(const std::filesystem::path& path);
std::shared_ptr<ByteSource> bytes_in_memory(std::string name, std::vector<std::uint8_t> bytes);
// The whole content; TooLarge beyond `limit`.
std::string read_text(const ByteSource& source, std::size_t limit = std::size_t{64} << 20);
std::string read_text_file(const std::filesystem::path& path, std::size_t limit = std::size_t{64} << 20);

class ByteSink {
 public:
  virtual ~ByteSink() = default;
  virtual void write_at(std::uint64_t offset, std::span<const std::uint8_t> bytes) = 0;
  // Lets other processes write into it, too, before anything is: where it lies meanwhile, and what now stands at its
  // beginning, by which they know it and which is written over later. Nothing for what lies nowhere.
  struct Meeting {
    std::filesystem::path path;
    std::vector<std::uint8_t> mark;
  };
  virtual std::optional<Meeting> meet() { return std::nullopt; }
  // Makes the whole thing appear under its name. Without it, nothing is left behind.
  virtual void commit() = 0;
};

struct CreateOptions {
  bool overwrite = false;
};
// Writes beside the final name and renames on commit. Io when the folder does not exist or cannot be written, or when
// the file exists and may not be overwritten.
std::unique_ptr<ByteSink> create_file(const std::filesystem::path& path, const CreateOptions& options = {});
// For tests: every file that create_file makes from now on is passed through `wrap` (empty: none).
void set_sink_wrapper(std::function<std::unique_ptr<ByteSink>(std::unique_ptr<ByteSink>)> wrap);

// A whole small file at once.
void write_file(const std::filesystem::path& path, std::span<const std::uint8_t> bytes,
                const CreateOptions& options = {});
void write_text_file(const std::filesystem::path& path, std::string_view text, const CreateOptions& options = {});

// A part of another source: [offset, offset + size), which must lie inside.
std::shared_ptr<ByteSource> part_of(std::shared_ptr<ByteSource> whole, std::uint64_t offset, std::uint64_t size,
                                    std::string name);

}  // namespace katoptra
