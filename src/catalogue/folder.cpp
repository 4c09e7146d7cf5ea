#include "folder.hpp"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <iterator>
#include <map>
#include <set>
#include <sys/stat.h>
#include <toml++/toml.h>
#include <tuple>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/xyz.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

FolderRecord read_record(const fs::path& path) {
  FolderRecord r;
  const std::string text = read_text_file(path, 1 << 20);
  try {
    const toml::table t = toml::parse(text, path.string());
    r.name = t["name"].value_or(std::string());
    r.date = t["date"].value_or(std::string());
    if (r.date.empty())
      if (const auto year = t["year"].value<std::int64_t>()) r.date = fmt::format("{:04}-01-01", *year);
    if (const auto date = t["date"].value<toml::date>())
      r.date = fmt::format("{:04}-{:02}-{:02}", date->year, date->month, date->day);
    r.licence = t["licence"].value_or(std::string());
    r.custodian = t["custodian"].value_or(std::string());
    r.skip = t["skip"].value_or(false);
    r.products = t["products"].value_or(false);
    r.uncertainty.text = t["uncertainty"].value_or(std::string());
    r.uncertainty.confidence = t["confidence"].value_or(r.uncertainty.confidence);
    if (const auto reach = t["error_reach"].value<std::string>()) r.uncertainty.reach = Length::parse(*reach);
    r.uncertainty.times();
    // A record states, it names no file.
    if (!r.uncertainty.text.empty()) parse_uncertainty(r.uncertainty.text);
    for (auto [key, list] : {std::pair{"restricted", &r.restricted}, std::pair{"key", &r.key}})
      if (const toml::array* names = t[key].as_array())
        for (const auto& n : *names) list->push_back(n.value_or(std::string()));
  } catch (const toml::parse_error& e) {
    throw Error(ErrorCode::BadFile, fmt::format("line {}: {}", e.source().begin.line, e.description()), path.string(),
                "mend the survey record");
  } catch (const Error& e) {
    throw Error(ErrorCode::BadFile, e.problem(), path.string(), "mend the survey record: " + e.advice());
  }
  return r;
}

void apply(const FolderRecord& r, TileRecord& tile) {
  if (!r.name.empty()) tile.survey = r.name;
  if (r.products) tile.joined = 0;
  if (!r.date.empty()) {
    tile.date = r.date;
    tile.date_guessed = false;
  }
  tile.uncertainty = r.uncertainty;
  tile.licence = r.licence;
  tile.custodian = r.custodian;
  auto names = [&](const std::vector<std::string>& list) {
    return std::any_of(list.begin(), list.end(), [&](const std::string& n) { return n == "*" || n == tile.id; });
  };
  if (names(r.key)) tile.access = Access::Key;
  if (names(r.restricted)) tile.access = Access::Restricted;
}

// An archive with several grids stands for all of them; a single grid inside keeps the name of its archive.
std::vector<fs::path> with_archive_opened(const fs::path& file) {
  const Format* format = format_of(file);
  if (!format || !format->holds(Holds::Files, Use::Read)) return {file};
  try {
    std::vector<fs::path> inside = grids_behind(file);
    if (inside.size() == 1 && inside[0] == file) inside = points_behind(file);
    if (inside.size() == 1) return {file};
    return inside;
  } catch (const Error&) {
    return {file};
  }
}

// Of a tile beside it, or of all of them.
bool is_product(const fs::path& path) {
  return path.filename().string().find(".lineage.") != std::string::npos || is_sheets_index(path);
}

// Classes that occur among the points: of a few chunks, so that a folder of large files is not read whole.
std::vector<int> classes_seen(const PointCloud& cloud) {
  constexpr std::size_t kChunks = 4;
  std::set<int> seen;
  if (!has(cloud.info().fields, PointFields::Class)) return {};
  const std::size_t n = cloud.parts(), step = std::max<std::size_t>(1, n / kChunks);
  for (std::size_t i = 0; i < n; i += step)
    for (const std::uint8_t c : cloud.read(i, PointFields::Class).classification) seen.insert(c);
  return {seen.begin(), seen.end()};
}

// LAS and LAZ by their headers, and the classes of a few chunks.
void describe_points(const fs::path& path, TileRecord& tile) {
  tile.kind = TileKind::Points;
  const PointFile file = open_point_file(path);
  const PointInfo& info = file.cloud.info();
  tile.format = file.facts.format.substr(0, file.facts.format.find(' '));
  tile.survey = file.facts.survey;
  tile.date = file.facts.date;
  tile.date_guessed = file.facts.date_guessed;
  tile.quantity = info.quantity;
  tile.problems = file.facts.problems;
  if (info.crs && !info.bounds.empty() && info.bounds.width() > 0 && info.bounds.height() > 0) {
    const Area box = Area::box(info.bounds, info.crs);
    tile.density = static_cast<double>(info.count) / box.ground_area();
    // A point stands for the ground around it: sheets that were cut from one cloud meet.
    tile.outline = box.grown(Length::metres(1 / std::sqrt(std::max(tile.density, 1e-6)))).in(Crs::wgs84()).shape();
  }
  if (!tile.remote()) tile.classes = classes_seen(file.cloud);
  if (tile.survey.empty())
    tile.survey = fmt::format("{} {} points", path.parent_path().filename().string(), tile.date.substr(0, 4));
}

// Points in text that lie on no lattice are soundings: where they lie, and how dense they are.
bool describe_soundings(const fs::path& path, TileRecord& tile) {
  const Format* format = format_of(path, Holds::Grids);
  if (tile.remote() || !format || format->sure) return false;
  const XyzFacts facts = look_at_xyz(*open_file(path));
  Crs crs = facts.crs;
  std::error_code ec;
  const fs::path prj = fs::path(path).replace_extension(".prj");
  if (!crs && fs::is_regular_file(prj, ec)) crs = Crs::parse(read_text_file(prj, 1 << 20));
  tile.kind = TileKind::Soundings;
  tile.format = "XYZ text";
  if (crs && facts.bounds.width() > 0 && facts.bounds.height() > 0) {
    const Area box = Area::box(facts.bounds, crs);
    tile.outline = box.in(Crs::wgs84()).shape();
    tile.density = static_cast<double>(facts.points) / box.ground_area();
  }
  struct stat st {};
  if (::stat(path.c_str(), &st) == 0) tile.date = fmt::format("{:%Y-%m-%d}", fmt::gmtime(st.st_mtime));
  tile.date_guessed = true;
  tile.survey = fmt::format("{} {} soundings", path.parent_path().filename().string(), tile.date.substr(0, 4));
  return true;
}

// Of how many files Katoptra made this one, and of which when it is one alone: by its lineage, else by its own word.
std::pair<int, std::string> made_of(const GridFile& file, const fs::path& path) {
  int n = 0;
  std::string one;
  for (const SourceRecord& s : file.grid.info().sources) {
    if (s.name.starts_with("fill: ")) continue;
    ++n;
    one = s.name;
  }
  n = std::max(n, file.facts.joined);
  return {n > 1 ? n : 0, n == 1 && one != path.filename().string() ? one : std::string()};
}

}  // namespace

TileRecord describe_tile(const fs::path& path) {
  TileRecord tile;
  tile.path = path;
  const std::string name = tile.remote() ? url_file_name(path.native()) : path.filename().string();
  tile.id = name.substr(0, name.find('.'));
  std::error_code ec;
  if (fs::exists(path, ec)) tile.bytes = fs::file_size(path, ec);
  try {
    if (looks_like_points(path)) {
      describe_points(path, tile);
      return tile;
    }
    const GridFile file = open_grid_file(path);
    tile.format = file.facts.format;
    if (tile.bytes == 0) tile.bytes = file.facts.bytes;
    tile.survey = file.facts.survey;
    tile.date = file.facts.date;
    tile.date_guessed = file.facts.date_guessed;
    tile.frame = file.grid.frame();
    std::tie(tile.joined, tile.made_from) = made_of(file, path);
    tile.quantity = file.grid.quantity();
    tile.type = file.grid.info().type;
    tile.spacing = ground_spacing(file.grid.frame());
    tile.problems = file.facts.problems;
  } catch (const Error& e) {
    if (e.code() == ErrorCode::Cancelled) throw;
    try {
      if (describe_soundings(path, tile)) return tile;
    } catch (const Error& also) {
      if (also.code() == ErrorCode::Cancelled) throw;
    }
    tile.openable = false;
    tile.problems.push_back(e.problem());
  }
  // Without a record of its survey a tile belongs with those of its folder, year, cell and references.
  if (tile.survey.empty() && tile.frame)
    tile.survey = fmt::format("{} {} {}", path.parent_path().filename().string(), tile.date.substr(0, 4),
                              format_length(tile.spacing.y));
  return tile;
}

FolderListing list_folder(const fs::path& folder) {
  std::error_code ec;
  if (!fs::is_directory(folder, ec))
    throw Error(ErrorCode::Io, fs::exists(folder, ec) ? "is not a folder" : "does not exist", folder.string(),
                "name a folder with tiles");
  FolderListing listing;
  std::map<fs::path, std::string> stamps;  // of files; and of all that share a name but for the extension
  auto name_without_ending = [](const fs::path& p) {
    const std::string n = p.filename().string();
    return p.parent_path() / n.substr(0, n.find('.', 1));
  };
  for (auto it = fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied, ec);
       it != fs::recursive_directory_iterator(); it.increment(ec)) {
    if (ec) break;
    if (!it->is_regular_file(ec)) continue;
    const fs::path& path = it->path();
    struct stat st {};
    ::stat(path.c_str(), &st);
    const std::string stamp = fmt::format("{}.{}.{}", st.st_size, st.st_mtim.tv_sec, st.st_mtim.tv_nsec);
    if (path.filename() == "survey.toml") {
      listing.records[path.parent_path()] = read_record(path);
      stamps[path] = stamp;
    } else if (!is_product(path) && lower_extension(path) != ".katalog") {
      listing.files.push_back({path, {}, nullptr});
      stamps[path] = stamp;
    }
  }
  std::sort(listing.files.begin(), listing.files.end(),
            [](const FolderFile& a, const FolderFile& b) { return a.path < b.path; });
  std::map<fs::path, std::string> families;
  for (const FolderFile& f : listing.files) families[name_without_ending(f.path)] += stamps[f.path] + " ";
  for (FolderFile& f : listing.files) {
    f.stamp = families[name_without_ending(f.path)];
    // The record of the nearest folder above a file.
    for (fs::path at = f.path.parent_path();; at = at.parent_path()) {
      if (auto r = listing.records.find(at); r != listing.records.end()) {
        f.record = &r->second;
        f.stamp += stamps[at / "survey.toml"];
        break;
      }
      if (at == folder || at.empty() || at == at.parent_path()) break;
    }
  }
  std::erase_if(listing.files, [](const FolderFile& f) { return f.record && f.record->skip; });
  return listing;
}

std::vector<TileRecord> tiles_in_file(const FolderFile& file) {
  const Format* format = format_of(file.path);
  const bool tile_name =
      format && format->sure && (format->holds(Holds::Grids, Use::Read) || format->holds(Holds::Points, Use::Read));
  std::vector<TileRecord> out;
  const std::vector<fs::path> inside = with_archive_opened(file.path);
  if (inside.size() == 1 && !tile_name && !looks_like_grid(file.path)) return {};
  for (const fs::path& p : inside) {
    out.push_back(describe_tile(p));
    if (file.record) apply(*file.record, out.back());
  }
  return out;
}

Catalogue open_folder(const fs::path& folder, const FolderOptions& options) {
  const FolderListing listing = list_folder(folder);
  std::vector<std::vector<TileRecord>> found(listing.files.size());
  parallel_for(found.size(), options.run, [&](std::size_t i) { found[i] = tiles_in_file(listing.files[i]); });
  Catalogue c;
  for (auto& tiles : found) std::move(tiles.begin(), tiles.end(), std::back_inserter(c.tiles));
  supersede_by_what_was_made(c.tiles);
  return c;
}

fs::path default_cache() {
  if (const char* xdg = std::getenv("XDG_CACHE_HOME"); xdg && *xdg) return fs::path(xdg) / "katoptra";
  if (const char* home = std::getenv("HOME"); home && *home) return fs::path(home) / ".cache/katoptra";
  return {};
}

}  // namespace katoptra
