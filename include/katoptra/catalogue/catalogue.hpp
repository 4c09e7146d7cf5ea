// A searchable set of surveys and their tiles: a folder, a catalogue file, a STAC catalogue or a STAC API, in the same
// words.
//
//   const Catalogue c = read_catalogue("surveys", {.area = &area});           // a folder: headers only
//   const Catalogue d = read_catalogue("http://127.0.0.1:8080/", {.area = &area, .filter = {.from_year = 2015}});
//   const Shortlist s = find_tiles(c, area);                                  // find.hpp
//
// A folder is searched with all its subfolders. A file survey.toml in a folder describes the tiles in and below it:
//   name = "Marrowick 2022"   year = 2022   date = "2022-03-14"   licence = "CC0-1.0"   custodian = "..."
//   restricted = ["sheet_c3"]      # tiles (stems of file names) that must be asked for; key = [...]: that need a key
//   skip = true                     # what lies here is no survey
// A tile's date is that of its survey record, else the file's own date tag, else the file time, marked as a guess.
// Without a record, tiles are grouped into surveys by folder, year and cell; several years on the same spot stay apart.
//
// What a remote catalogue says is not trusted: it cannot name files of this machine, and files on hosts that the user
// did not name are listed, but not used.
#pragma once
#include <filesystem>
#include <set>
#include <string>
#include <vector>

#include "katoptra/base/run_options.hpp"
#include "katoptra/catalogue/stac.hpp"
#include "katoptra/catalogue/tile.hpp"

namespace katoptra {

struct Catalogue {
  std::vector<TileRecord> tiles;
  std::vector<SurveyRecord> surveys;
  std::vector<std::string> notes;  // what should be known about how it came about
};

struct CatalogueQuery {
  const Area* area = nullptr;  // only tiles whose boxes touch it, and tiles without a place; none: all
  TileFilter filter;           // what a service may be asked to leave out; tiles that do not pass may still come
};

struct CatalogueOptions {
  std::set<std::string> hosts;  // whose files may be used beside those of the catalogue's own host
  // Where what is known of folders is kept, so that the next time only changed files are opened. Empty: nowhere.
  std::filesystem::path cache;
  std::size_t most_items = 100'000;  // from a service; beyond it, TooLarge
  RunOptions run;
};

// `location`: a folder, a catalogue file (.katalog), a STAC document (catalogue, collection, item or ItemCollection) on
// the disk or the web, or the landing page of a STAC API. Io, Network, BadFile.
Catalogue read_catalogue(const std::string& location, const CatalogueQuery& query = {},
                         const CatalogueOptions& options = {});

struct FolderOptions {
  RunOptions run;
};
Catalogue open_folder(const std::filesystem::path& folder, const FolderOptions& options = {});
// One file as a catalogue of one.
TileRecord describe_tile(const std::filesystem::path& path);

// $XDG_CACHE_HOME/katoptra (else ~/.cache/katoptra); empty when neither is set.
std::filesystem::path default_cache();

}  // namespace katoptra
