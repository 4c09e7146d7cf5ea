#include "katoptra/formats/grid_file.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <ctime>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sstream>
#include <sys/stat.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/text.hpp"
#include "lineage_file.hpp"
#include "tiff_read.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

enum class Kind { Tiff, Zip, Other };

Kind kind_of(std::span<const std::uint8_t> head) {
  auto starts = [&](const char* magic, std::size_t n) {
    return head.size() >= n && std::memcmp(head.data(), magic, n) == 0;
  };
  if (starts("II*\0", 4) || starts("MM\0*", 4) || starts("II+\0", 4) || starts("MM\0+", 4)) return Kind::Tiff;
  if (starts("PK\3\4", 4)) return Kind::Zip;
  return Kind::Other;
}

Kind kind_of(const ByteSource& bytes) {
  std::array<std::uint8_t, 8> head{};
  return kind_of(std::span(head.data(), bytes.read_at(0, head)));
}

[[noreturn]] void refuse_kind(const std::string& name) {
  throw Error(ErrorCode::BadFile, "is not in a grid format that is read here", name,
              "give a GeoTIFF or HGT file, or a zip archive with one inside");
}

GridFile open_bytes(const std::shared_ptr<ByteSource>& bytes, const std::string& file_name) {
  if (kind_of(*bytes) == Kind::Tiff) return open_tiff(bytes);
  if (is_hgt_name(file_name) && lower_extension(file_name) == ".hgt") return open_hgt(bytes, file_name);
  refuse_kind(bytes->name());
}

// The one grid inside an archive, unpacked in memory.
GridFile open_zip(const fs::path& path) {
  constexpr std::size_t kLimit = std::size_t{1} << 30;
  std::vector<std::string> grids;
  for (const ArchiveEntry& e : list_archive(path)) {
    const std::string ext = lower_extension(e.name);
    if (ext == ".hgt" || ext == ".tif" || ext == ".tiff") grids.push_back(e.name);
  }
  if (grids.size() != 1)
    throw Error(grids.empty() ? ErrorCode::BadFile : ErrorCode::Unsupported,
                grids.empty() ? "the archive holds no GeoTIFF or HGT file"
                              : fmt::format("the archive holds {} grids", grids.size()),
                path.string(), "unpack it and name the grid");
  auto bytes = bytes_in_memory(path.string() + "/" + grids[0], read_archive_entry(path, grids[0], kLimit));
  GridFile file = open_bytes(bytes, fs::path(grids[0]).filename().string());
  file.facts.compression = "zip, " + file.facts.compression;
  return file;
}

std::string file_date(const fs::path& path) {
  struct stat st {};
  if (::stat(path.c_str(), &st) != 0) return {};
  return fmt::format("{:%Y-%m-%d}", fmt::gmtime(st.st_mtime));
}

void assign(GridInfo& info, const FileFacts& facts, const OpenOptions& options) {
  if (options.crs) {
    if (!info.frame.crs())
      info.frame = info.frame.with_crs(*options.crs);
    else if (!info.frame.crs().same_place(*options.crs))
      throw Error(ErrorCode::Refused,
                  fmt::format("is in {}, and {} was assigned", info.frame.crs().label(), options.crs->label()),
                  facts.path.string(), "to move it there use reproject");
  }
  Quantity& q = info.quantity;
  if (options.heights && options.heights->known()) {
    if (!q.heights.known())
      q.heights = *options.heights;
    else if (!(q.heights == *options.heights))
      throw Error(
          ErrorCode::Refused,
          fmt::format("its heights are above {}, and {} was assigned", q.heights.name(), options.heights->name()),
          facts.path.string(), "leave the assignment out");
  }
  if (options.unit && !q.unit_known) {
    q.unit = *options.unit;
    q.unit_known = true;
  }
}

}  // namespace

GridFile open_grid_file(const fs::path& path, const OpenOptions& options) {
  auto bytes = open_file(path);
  GridFile file;
  const std::string name = path.filename().string();
  if (kind_of(*bytes) == Kind::Zip)
    file = open_zip(path);
  else
    file = open_bytes(bytes, name);
  file.facts.path = path;
  file.facts.bytes = bytes->size();
  if (file.facts.date.empty()) {
    file.facts.date = file_date(path);
    file.facts.date_guessed = true;
  }
  file.grid = relabelled(file.grid, [&](GridInfo& info) {
    assign(info, file.facts, options);
    info.name = name;
    info.sources = {{.name = name,
                     .survey = file.facts.survey,
                     .date = file.facts.date,
                     .date_guessed = file.facts.date_guessed,
                     .cell = ground_spacing(info.frame).y,
                     .treatment = {}}};
  });
  if (auto lineage = open_lineage_beside(path, file.grid)) file.grid = *lineage;
  return file;
}

Grid open_grid(const fs::path& path, const OpenOptions& options) { return open_grid_file(path, options).grid; }

bool looks_like_grid(const fs::path& path) {
  try {
    auto bytes = open_file(path);
    const Kind kind = kind_of(*bytes);
    const std::string name = path.filename().string(), ext = lower_extension(path);
    return kind == Kind::Tiff || (kind == Kind::Zip && ext == ".zip") || (ext == ".hgt" && is_hgt_name(name));
  } catch (const Error&) {
    return false;
  }
}

fs::path lineage_path_for(const fs::path& path) { return path.parent_path() / (path.stem().string() + ".lineage.tif"); }

}  // namespace katoptra
