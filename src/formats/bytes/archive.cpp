#include "katoptra/formats/archive.hpp"

#include <algorithm>
#include <archive.h>
#include <archive_entry.h>
#include <array>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <libdeflate.h>
#include <map>
#include <mutex>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

#include "descriptor.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kMostEntries = 1'000'000;
constexpr std::uint64_t kSuspiciousRatio = 1000, kSuspiciousSize = std::uint64_t{1} << 30;

// ------------------------------------------------------------------------------------------ what is unpacked, kept

// A temporary file without a name, filled from the front.
class SpillSource final : public DescriptorSource {
 public:
  explicit SpillSource(const std::string& name) : DescriptorSource(name, open_unnamed_file(name), 0) {}
  void append(std::span<const std::uint8_t> bytes) {
    try {
      write_descriptor(descriptor(), size_, bytes, name());
    } catch (const Error& e) {
      throw Error(ErrorCode::Io, "cannot be unpacked: its temporary file " + e.problem(), name(),
                  "make room, or set TMPDIR to a larger disk");
    }
    size_ += bytes.size();
  }
};

// What may come out of an archive.
class Allowance {
 public:
  Allowance(std::string name, std::uint64_t packed) : name_(std::move(name)), packed_(packed) {}
  void take(std::uint64_t bytes) {
    size_ += bytes;
    if (size_ > kMostUnpacked || (size_ > kSuspiciousSize && size_ / kSuspiciousRatio > packed_))
      throw Error(ErrorCode::TooLarge,
                  fmt::format("unpacks to more than {} from {}", format_bytes(static_cast<double>(size_)),
                              format_bytes(static_cast<double>(packed_))),
                  name_, "unpack it by hand if it is meant to be this large");
  }

 private:
  std::string name_;
  std::uint64_t packed_, size_ = 0;
};

// Takes the bytes of an entry as they come: memory first, then a file.
class Unpacked {
 public:
  explicit Unpacked(std::string name) : name_(std::move(name)) {}
  void append(std::span<const std::uint8_t> bytes) {
    if (!spill_ && memory_.size() + bytes.size() <= kUnpackInMemory) {
      memory_.insert(memory_.end(), bytes.begin(), bytes.end());
      return;
    }
    if (!spill_) {
      spill_ = std::make_shared<SpillSource>(name_);
      spill_->append(memory_);
      memory_ = {};
    }
    spill_->append(bytes);
  }
  std::shared_ptr<ByteSource> finish() {
    if (spill_) return spill_;
    return bytes_in_memory(name_, std::move(memory_));
  }

 private:
  std::string name_;
  std::vector<std::uint8_t> memory_;
  std::shared_ptr<SpillSource> spill_;
};

// ------------------------------------------------------------------------------------------------ through libarchive

// libarchive's view of a ByteSource.
class ArchiveReader {
 public:
  ArchiveReader(std::shared_ptr<ByteSource> bytes, bool single_file)
      : bytes_(std::move(bytes)), a_(archive_read_new()) {
    archive_read_support_filter_all(a_);
    if (single_file)
      archive_read_support_format_raw(a_);
    else
      archive_read_support_format_zip(a_), archive_read_support_format_tar(a_);
    archive_read_set_read_callback(a_, &ArchiveReader::read);
    archive_read_set_seek_callback(a_, &ArchiveReader::seek);
    archive_read_set_skip_callback(a_, &ArchiveReader::skip);
    archive_read_set_callback_data(a_, this);
    if (archive_read_open1(a_) != ARCHIVE_OK) {
      const std::string why = message();
      archive_read_free(a_);
      throw Error(ErrorCode::BadFile, "the archive cannot be read: " + why, bytes_->name(), "fetch it again");
    }
  }
  ~ArchiveReader() { archive_read_free(a_); }
  ArchiveReader(const ArchiveReader&) = delete;
  ArchiveReader& operator=(const ArchiveReader&) = delete;

  // The next entry; null at the end.
  archive_entry* next() {
    archive_entry* entry = nullptr;
    const int status = archive_read_next_header(a_, &entry);
    if (status == ARCHIVE_EOF) return nullptr;
    if (status < ARCHIVE_WARN || ++count_ > kMostEntries)
      throw Error(ErrorCode::BadFile, "the archive is damaged: " + message(), bytes_->name(), "fetch it again");
    return entry;
  }
  template <class Sink>
  void unpack(const std::string& name, Allowance& allowance, Sink& to) {
    std::vector<std::uint8_t> piece(1 << 17);
    for (;;) {
      const la_ssize_t n = archive_read_data(a_, piece.data(), piece.size());
      if (n < 0)
        throw Error(ErrorCode::BadFile, "an entry of the archive is damaged: " + message(), bytes_->name() + "/" + name,
                    "fetch it again");
      if (n == 0) return;
      allowance.take(static_cast<std::uint64_t>(n));
      to.append(std::span(piece.data(), static_cast<std::size_t>(n)));
    }
  }
  std::vector<std::uint8_t> first_bytes(std::size_t n) {
    std::vector<std::uint8_t> out(n);
    const la_ssize_t got = archive_read_data(a_, out.data(), n);
    out.resize(static_cast<std::size_t>(std::max<la_ssize_t>(0, got)));
    return out;
  }

 private:
  std::string message() const {
    const char* text = archive_error_string(a_);
    return text ? text : "damaged";
  }
  static la_ssize_t read(archive* a, void* self, const void** out) {
    auto* r = static_cast<ArchiveReader*>(self);
    try {
      const std::size_t n = r->bytes_->read_at(r->at_, r->buffer_);
      r->at_ += n;
      *out = r->buffer_.data();
      return static_cast<la_ssize_t>(n);
    } catch (const Error& e) {
      archive_set_error(a, EIO, "%s", e.problem().c_str());
      return ARCHIVE_FATAL;
    }
  }
  static la_int64_t seek(archive*, void* self, la_int64_t offset, int whence) {
    auto* r = static_cast<ArchiveReader*>(self);
    const auto size = static_cast<la_int64_t>(r->bytes_->size());
    const la_int64_t to = (whence == SEEK_SET   ? 0
                           : whence == SEEK_CUR ? static_cast<la_int64_t>(r->at_)
                                                : size) +
                          offset;
    if (to < 0 || to > size) return ARCHIVE_FATAL;
    r->at_ = static_cast<std::uint64_t>(to);
    return to;
  }
  static la_int64_t skip(archive*, void* self, la_int64_t n) {
    auto* r = static_cast<ArchiveReader*>(self);
    const auto left = static_cast<la_int64_t>(r->bytes_->size() - r->at_);
    const la_int64_t step = std::clamp<la_int64_t>(n, 0, left);
    r->at_ += static_cast<std::uint64_t>(step);
    return step;
  }

  std::shared_ptr<ByteSource> bytes_;
  archive* a_;
  std::uint64_t at_ = 0;
  std::size_t count_ = 0;
  std::array<std::uint8_t, 1 << 16> buffer_{};
};

// ------------------------------------------------------------------------------------------------------------ kinds

bool starts(std::span<const std::uint8_t> head, std::string_view magic) {
  return head.size() >= magic.size() && std::memcmp(head.data(), magic.data(), magic.size()) == 0;
}
bool is_zip(std::span<const std::uint8_t> head) {
  return starts(head, "PK\3\4") || starts(head, std::string_view("PK\5\6", 4));
}
bool is_compressed(std::span<const std::uint8_t> head) {
  return starts(head, "\x1f\x8b") || starts(head, "BZh") ||
         starts(head, std::string_view("\xfd"
                                       "7zXZ\0",
                                       6)) ||
         starts(head, "\x28\xb5\x2f\xfd");
}
bool is_tar(std::span<const std::uint8_t> head) { return head.size() >= 262 && starts(head.subspan(257), "ustar"); }

std::uint64_t little(std::span<const std::uint8_t> b, std::size_t at, int n) {
  std::uint64_t v = 0;
  for (int i = 0; i < n; ++i) v |= std::uint64_t{b[at + static_cast<std::size_t>(i)]} << (8 * i);
  return v;
}

// Zip archives: entries can be reached one by one, and stored ones lie in the file as they are.
class ZipArchive final : public Archive {
 public:
  explicit ZipArchive(std::shared_ptr<ByteSource> bytes) : Archive(std::move(bytes)) {
    ArchiveReader reader(bytes_, false);
    while (archive_entry* e = reader.next())
      if (archive_entry_filetype(e) == AE_IFREG && archive_entry_pathname(e))
        entries_.push_back(
            {archive_entry_pathname(e), static_cast<std::uint64_t>(std::max<la_int64_t>(0, archive_entry_size(e)))});
    find_stored();
  }

 private:
  // The central directory (PKWARE's published format), for the places of stored entries and of small deflated ones,
  // which would otherwise be searched for from the front each time. Anything odd about an entry leaves it to
  // libarchive.
  void find_stored() {
    const std::uint64_t size = bytes_->size();
    std::vector<std::uint8_t> tail(static_cast<std::size_t>(std::min<std::uint64_t>(size, 65557)));
    bytes_->read_exactly(size - tail.size(), tail);
    std::size_t end = tail.size();
    for (std::size_t i = tail.size() < 22 ? 0 : tail.size() - 22 + 1; i-- > 0;)
      if (starts(std::span(tail).subspan(i), "PK\5\6")) {
        end = i;
        break;
      }
    if (end == tail.size()) return;
    const std::uint64_t count = little(tail, end + 10, 2), bytes = little(tail, end + 12, 4),
                        offset = little(tail, end + 16, 4);
    if (offset > size || bytes > size - offset || bytes > (std::uint64_t{64} << 20)) return;
    std::vector<std::uint8_t> directory(bytes);
    bytes_->read_exactly(offset, directory);
    std::size_t at = 0;
    for (std::uint64_t i = 0; i < count && at + 46 <= directory.size(); ++i) {
      if (!starts(std::span(directory).subspan(at), "PK\1\2")) return;
      const auto flags = little(directory, at + 8, 2), method = little(directory, at + 10, 2),
                 packed = little(directory, at + 20, 4), plain = little(directory, at + 24, 4),
                 name_length = little(directory, at + 28, 2), extra = little(directory, at + 30, 2),
                 comment = little(directory, at + 32, 2), place = little(directory, at + 42, 4);
      if (at + 46 + name_length > directory.size()) return;
      std::string name(reinterpret_cast<const char*>(directory.data()) + at + 46, name_length);
      const bool is_plain = !(flags & 1) && packed != 0xffffffffu && plain != 0xffffffffu;
      if (is_plain && method == 0 && packed == plain) remember(name, place, {0, plain, plain, 0}, stored_);
      if (is_plain && method == 8 && plain > 0 && plain <= kUnpackInMemory)
        remember(name, place, {0, packed, plain, static_cast<std::uint32_t>(little(directory, at + 16, 4))}, deflated_);
      at += 46 + name_length + extra + comment;
    }
  }
  struct Place {
    std::uint64_t at = 0, packed = 0, plain = 0;
    std::uint32_t crc = 0;
  };
  void remember(const std::string& name, std::uint64_t place, Place p, std::map<std::string, Place>& to) {
    std::array<std::uint8_t, 30> local{};
    if (bytes_->read_at(place, local) != local.size() || !starts(local, "PK\3\4")) return;
    p.at = place + 30 + little(local, 26, 2) + little(local, 28, 2);
    if (p.at > bytes_->size() || p.packed > bytes_->size() - p.at) return;
    to[name] = p;
  }

  // One entry, without going through all that stand before it.
  std::shared_ptr<ByteSource> inflated(const std::string& name, const Place& p) const {
    const std::string whole = bytes_->name() + "/" + name;
    std::vector<std::uint8_t> packed(p.packed), plain(p.plain);
    bytes_->read_exactly(p.at, packed);
    const std::unique_ptr<libdeflate_decompressor, void (*)(libdeflate_decompressor*)> d(
        libdeflate_alloc_decompressor(), libdeflate_free_decompressor);
    if (!d ||
        libdeflate_deflate_decompress(d.get(), packed.data(), packed.size(), plain.data(), plain.size(), nullptr) !=
            LIBDEFLATE_SUCCESS ||
        libdeflate_crc32(0, plain.data(), plain.size()) != p.crc)
      throw Error(ErrorCode::BadFile, "is damaged inside its archive", whole, "fetch the archive again");
    return bytes_in_memory(whole, std::move(plain));
  }

  std::shared_ptr<ByteSource> unpack(const std::string& name) const override {
    if (auto s = stored_.find(name); s != stored_.end())
      return part_of(bytes_, s->second.at, s->second.plain, bytes_->name() + "/" + name);
    if (auto d = deflated_.find(name); d != deflated_.end()) return inflated(name, d->second);
    ArchiveReader reader(bytes_, false);
    while (archive_entry* e = reader.next()) {
      if (!archive_entry_pathname(e) || name != archive_entry_pathname(e)) continue;
      Unpacked to(bytes_->name() + "/" + name);
      Allowance allowance(bytes_->name() + "/" + name, bytes_->size());
      reader.unpack(name, allowance, to);
      return to.finish();
    }
    return nullptr;
  }

  std::map<std::string, Place> stored_, deflated_;
};

// Archives that can only be read from the front: all entries are unpacked in the first pass, once one is wanted.
class StreamArchive final : public Archive {
 public:
  StreamArchive(std::shared_ptr<ByteSource> bytes, bool single_file)
      : Archive(std::move(bytes)), single_file_(single_file) {
    ArchiveReader reader(bytes_, single_file_);
    while (archive_entry* e = reader.next())
      if (const auto name = name_of(e)) {
        const la_int64_t size = archive_entry_size_is_set(e) ? archive_entry_size(e) : 0;
        entries_.push_back({*name, static_cast<std::uint64_t>(std::max<la_int64_t>(0, size))});
      }
  }

 private:
  std::optional<std::string> name_of(archive_entry* e) const {
    if (single_file_) {
      // "S38W032.hgt" for "tiles/S38W032.hgt.gz"
      const std::filesystem::path file = bytes_->name();
      return file.extension().empty() ? "data" : file.stem().string();
    }
    if (archive_entry_filetype(e) != AE_IFREG || !archive_entry_pathname(e)) return std::nullopt;
    return archive_entry_pathname(e);
  }
  std::shared_ptr<ByteSource> unpack(const std::string& name) const override {
    std::lock_guard lock(mutex_);
    if (unpacked_.empty()) {
      ArchiveReader reader(bytes_, single_file_);
      Allowance allowance(bytes_->name(), bytes_->size());
      auto spill = std::make_shared<SpillSource>(bytes_->name());
      while (archive_entry* e = reader.next())
        if (const auto own = name_of(e)) {
          const std::uint64_t from = spill->size();
          reader.unpack(*own, allowance, *spill);
          unpacked_[*own] = part_of(spill, from, spill->size() - from, bytes_->name() + "/" + *own);
        }
    }
    const auto found = unpacked_.find(name);
    return found == unpacked_.end() ? nullptr : found->second;
  }

  bool single_file_;
  mutable std::mutex mutex_;
  mutable std::map<std::string, std::shared_ptr<ByteSource>> unpacked_;
};

}  // namespace

bool Archive::is_archive(const ByteSource& bytes) {
  const auto head = bytes.head(512);
  return is_zip(head) || is_compressed(head) || is_tar(head);
}

std::shared_ptr<const Archive> Archive::open(std::shared_ptr<ByteSource> bytes) {
  const auto head = bytes->head(512);
  if (is_zip(head)) return std::make_shared<ZipArchive>(std::move(bytes));
  bool single = false;
  if (is_compressed(head)) {
    // A compressed tar archive or one compressed file: the first bytes inside tell.
    ArchiveReader reader(bytes, true);
    std::vector<std::uint8_t> inner;
    if (reader.next()) inner = reader.first_bytes(512);
    single = !is_tar(inner);
  }
  return std::make_shared<StreamArchive>(std::move(bytes), single);
}

bool Archive::has(const std::string& name) const {
  return std::any_of(entries_.begin(), entries_.end(), [&](const ArchiveEntry& e) { return e.name == name; });
}

std::shared_ptr<ByteSource> Archive::open_entry(const std::string& name, Empty empty) const {
  std::shared_ptr<ByteSource> bytes = has(name) ? unpack(name) : nullptr;
  if (!bytes) throw Error(ErrorCode::BadFile, "is not in the archive", bytes_->name() + "/" + name);
  if (bytes->size() == 0 && empty == Empty::Refused)
    throw Error(ErrorCode::BadFile, "is empty", bytes_->name() + "/" + name, "fetch it again");
  return bytes;
}

}  // namespace katoptra
