// Files inside archives: zip, tar, tar.gz (and .bz2, .xz, .zst), single compressed files, and archives within archives.
//
//   auto archive = Archive::open(open_file("county.zip"));
//   for (const ArchiveEntry& e : archive->entries()) say(e.name);
//   std::shared_ptr<ByteSource> tile = archive->open_entry("north/tile.tif");
//
// An entry that a zip archive stores without compression is read in place. Others are unpacked when they are opened:
// into memory up to kUnpackInMemory bytes, beyond that into a temporary file without a name, which goes away with its
// last user. An entry's name is never used as a place on the disk. What unpacks to more than kMostUnpacked bytes, or to
// more than a thousand times its archive and a gibibyte, is refused (TooLarge), whatever the archive claims.
// Thread-safe.
#pragma once
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "katoptra/formats/bytes.hpp"

namespace katoptra {

inline constexpr std::uint64_t kUnpackInMemory = std::uint64_t{32} << 20;
inline constexpr std::uint64_t kMostUnpacked = std::uint64_t{64} << 30;

struct ArchiveEntry {
  std::string name;
  std::uint64_t size = 0;  // as the archive claims; 0 when it does not say
};

class Archive {
 public:
  // True when the first bytes are those of an archive or a compressed file.
  static bool is_archive(const ByteSource& bytes);
  // BadFile when it is damaged.
  static std::shared_ptr<const Archive> open(std::shared_ptr<ByteSource> bytes);

  const std::vector<ArchiveEntry>& entries() const { return entries_; }
  bool has(const std::string& name) const;
  enum class Empty { Refused, Allowed };
  // BadFile when there is none of that name, it is damaged, or it is empty and that is not allowed; TooLarge.
  std::shared_ptr<ByteSource> open_entry(const std::string& name, Empty empty = Empty::Refused) const;

  virtual ~Archive() = default;

 protected:
  explicit Archive(std::shared_ptr<ByteSource> bytes) : bytes_(std::move(bytes)) {}
  std::shared_ptr<ByteSource> bytes_;
  std::vector<ArchiveEntry> entries_;

 private:
  virtual std::shared_ptr<ByteSource> unpack(const std::string& name) const = 0;
};

// Unpacks everything, archives within archives in folders of their own name, below `folder`, which must not be there
// and appears only when it is whole. Entries whose names lead out of it are refused (BadFile); links and devices in an
// archive are not made. Returns the files.
std::vector<std::filesystem::path> unpack_into(const std::filesystem::path& archive,
                                               const std::filesystem::path& folder);

}  // namespace katoptra
