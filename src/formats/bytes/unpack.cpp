// Archives unpacked onto the disk.
#include <fmt/format.h>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/archive.hpp"

#include "base/text.hpp"
#include "located.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMostFiles = 200'000, kPiece = std::size_t{1} << 20;

// A name that stays below the folder: plain parts, none of them "..".
fs::path inside(const std::string& name, const std::string& archive) {
  fs::path out;
  std::string part;
  auto bad = [&](const char* why) {
    throw Error(ErrorCode::BadFile, fmt::format("an entry is called '{}', which {}", name.substr(0, 80), why), archive,
                "do not trust this archive; look into it by hand");
  };
  if (name.starts_with('/')) bad("leads out of the folder");
  for (std::size_t i = 0; i <= name.size(); ++i) {
    const char c = i < name.size() ? name[i] : '/';
    if (c == '\\' || static_cast<unsigned char>(c) < 32) bad("is no plain name");
    if (c != '/') {
      part += c;
      continue;
    }
    if (part == "..") bad("leads out of the folder");
    if (part.size() > 255) bad("is too long");
    if (!part.empty() && part != ".") out /= part;
    part.clear();
  }
  if (out.empty()) bad("is no name");
  return out;
}

class ArchiveUnpacker {
 public:
  explicit ArchiveUnpacker(std::uint64_t packed)
      : most_(std::max<std::uint64_t>(packed * 1000, std::uint64_t{1} << 30)) {}

  void archive(std::shared_ptr<ByteSource> bytes, const fs::path& folder, int depth) {
    const auto a = Archive::open(bytes);
    for (const ArchiveEntry& e : a->entries()) {
      if (e.name.ends_with('/')) continue;
      const fs::path to = folder / inside(e.name, bytes->name());
      const auto entry = a->open_entry(e.name, Archive::Empty::Allowed);
      if (depth < kMostNested && Archive::is_archive(*entry) && is_archive_name(to.string())) {
        this->archive(entry, to, depth + 1);
        continue;
      }
      write(*entry, to);
    }
  }
  std::vector<fs::path> files;

 private:
  void write(const ByteSource& entry, const fs::path& to) {
    total_ += entry.size();
    if (total_ > most_ || total_ > kMostUnpacked || files.size() >= kMostFiles)
      throw Error(
          ErrorCode::TooLarge,
          fmt::format("unpacks to more than {} in {} files", format_bytes(static_cast<double>(total_)), files.size()),
          entry.name(), "unpack it by hand if it is meant to be this large");
    std::error_code ec;
    fs::create_directories(to.parent_path(), ec);
    auto sink = create_file(to);
    std::vector<std::uint8_t> piece(kPiece);
    for (std::uint64_t at = 0; at < entry.size();) {
      const std::size_t n = entry.read_at(at, piece);
      if (n == 0) throw Error(ErrorCode::BadFile, "ends early", entry.name(), "fetch it again");
      sink->write_at(at, std::span(piece).first(n));
      at += n;
    }
    sink->commit();
    files.push_back(to);
  }

  std::uint64_t most_, total_ = 0;
};

}  // namespace

std::vector<fs::path> unpack_into(const fs::path& archive, const fs::path& folder) {
  std::error_code ec;
  if (fs::exists(fs::symlink_status(folder, ec)))
    throw Error(ErrorCode::Io, "exists already", folder.string(), "choose another folder");
  const auto bytes = open_file(archive);
  const fs::path part = folder.parent_path() / fmt::format(".{}.part-{}", folder.filename().string(), ::getpid());
  fs::remove_all(part, ec);
  if (!fs::create_directories(part, ec))
    throw Error(ErrorCode::Io, "cannot be made: " + ec.message(), folder.string(),
                "check the disk and its permissions");
  ArchiveUnpacker u(bytes->size());
  try {
    u.archive(bytes, part, 0);
    fs::rename(part, folder);
  } catch (const fs::filesystem_error& e) {
    fs::remove_all(part, ec);
    throw Error(ErrorCode::Io, "cannot be given its name: " + e.code().message(), folder.string(), "check the disk");
  } catch (...) {
    fs::remove_all(part, ec);
    throw;
  }
  for (fs::path& f : u.files) f = folder / f.lexically_relative(part);
  return std::move(u.files);
}

}  // namespace katoptra
