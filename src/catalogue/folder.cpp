#include <algorithm>
#include <cstdlib>
#include <fmt/format.h>
#include <map>
#include <toml++/toml.h>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

struct SurveyRecord {
  std::string name, date, licence, custodian;
  std::vector<std::string> restricted;
  bool skip = false;
};

SurveyRecord read_record(const fs::path& path) {
  SurveyRecord r;
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
    if (const toml::array* names = t["restricted"].as_array())
      for (const auto& n : *names) r.restricted.push_back(n.value_or(std::string()));
  } catch (const toml::parse_error& e) {
    throw Error(ErrorCode::BadFile, fmt::format("line {}: {}", e.source().begin.line, e.description()), path.string(),
                "mend the survey record");
  }
  return r;
}

void apply(const SurveyRecord& r, TileRecord& tile) {
  if (!r.name.empty()) tile.survey = r.name;
  if (!r.date.empty()) {
    tile.date = r.date;
    tile.date_guessed = false;
  }
  tile.licence = r.licence;
  tile.custodian = r.custodian;
  std::string stem = tile.path.filename().string();
  stem = stem.substr(0, stem.find('.'));
  tile.restricted = std::find(r.restricted.begin(), r.restricted.end(), stem) != r.restricted.end();
}

// An archive with several grids stands for all of them.
std::vector<fs::path> with_archives_opened(std::vector<fs::path> files) {
  std::vector<fs::path> out;
  for (fs::path& file : files) {
    const std::string e = lower_extension(file);
    if (e != ".zip" && e != ".tar" && e != ".gz" && e != ".tgz" && e != ".bz2" && e != ".xz" && e != ".zst") {
      out.push_back(std::move(file));
      continue;
    }
    try {
      std::vector<fs::path> inside = grids_behind(file);
      // A single grid inside keeps the name of its archive.
      if (inside.size() == 1) inside[0] = file;
      out.insert(out.end(), inside.begin(), inside.end());
    } catch (const Error&) {
      out.push_back(std::move(file));
    }
  }
  return out;
}

bool is_product(const fs::path& path) { return path.filename().string().find(".lineage.") != std::string::npos; }

}  // namespace

TileRecord describe_tile(const fs::path& path) {
  TileRecord tile;
  tile.path = path;
  std::error_code ec;
  if (fs::exists(path, ec)) tile.bytes = fs::file_size(path, ec);
  try {
    const GridFile file = open_grid_file(path);
    tile.format = file.facts.format;
    if (tile.bytes == 0) tile.bytes = file.facts.bytes;
    tile.survey = file.facts.survey;
    tile.date = file.facts.date;
    tile.date_guessed = file.facts.date_guessed;
    tile.frame = file.grid.frame();
    tile.quantity = file.grid.quantity();
    tile.type = file.grid.info().type;
    tile.spacing = ground_spacing(file.grid.frame());
    tile.problems = file.facts.problems;
  } catch (const Error& e) {
    tile.openable = false;
    tile.problems.push_back(e.problem());
  }
  // Without a record of its survey a tile belongs with those of its folder, year, cell and references.
  if (tile.survey.empty() && tile.frame)
    tile.survey = fmt::format("{} {} {:.3g} m", path.parent_path().filename().string(), tile.date.substr(0, 4),
                              tile.spacing.y.metres());
  return tile;
}

Catalogue open_folder(const fs::path& folder, const FolderOptions& options) {
  std::error_code ec;
  if (!fs::is_directory(folder, ec))
    throw Error(ErrorCode::Io, fs::exists(folder, ec) ? "is not a folder" : "does not exist", folder.string(),
                "name a folder with tiles");
  std::vector<fs::path> files;
  std::map<fs::path, SurveyRecord> records;
  for (auto it = fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied, ec);
       it != fs::recursive_directory_iterator(); it.increment(ec)) {
    if (ec) break;
    if (!it->is_regular_file(ec)) continue;
    if (it->path().filename() == "survey.toml")
      records[it->path().parent_path()] = read_record(it->path());
    else if (!is_product(it->path()))
      files.push_back(it->path());
  }
  files = with_archives_opened(std::move(files));
  std::sort(files.begin(), files.end());
  const auto is_tile_name = [](const fs::path& p) {
    const std::string e = lower_extension(p);
    return e == ".tif" || e == ".tiff" || e == ".hgt" || e == ".asc" || e == ".nc" || e == ".bag" || e == ".flt" ||
           e == ".bil";
  };
  // The record of the nearest folder above a file.
  const auto record_of = [&](const fs::path& file) -> const SurveyRecord* {
    for (fs::path at = file.parent_path();; at = at.parent_path()) {
      if (auto r = records.find(at); r != records.end()) return &r->second;
      if (at == folder || at.empty() || at == at.parent_path()) return nullptr;
    }
  };
  std::vector<std::optional<TileRecord>> found(files.size());
  parallel_for(files.size(), options.run, [&](std::size_t i) {
    std::error_code missing;
    if (fs::exists(files[i], missing) && !is_tile_name(files[i]) && !looks_like_grid(files[i])) return;
    const SurveyRecord* record = record_of(files[i]);
    if (record && record->skip) return;
    found[i] = describe_tile(files[i]);
    if (record) apply(*record, *found[i]);
  });
  Catalogue c;
  for (auto& t : found)
    if (t) c.tiles.push_back(std::move(*t));
  return c;
}

}  // namespace katoptra
