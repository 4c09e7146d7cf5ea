// The file formats as one table, a row a format: what each is called, how its names end, what may lie beside a file.
//
//   format_of("sheet_a1.laz")->name;                    // "LAZ"
//   endings_of(Holds::Grids, Use::Written);             // ".tif, .tiff, .hgt, .asc ..."
//
// Opening, folders, catalogues, archives, fetching, studies and the fuzzers go through it. A new format is one row
// (src/formats/format_table.cpp) and the functions that it names.
#pragma once
#include <filesystem>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace katoptra {

enum class Holds { Grids, Points, Features, Files };
enum class Use { Read, Written };

// A file that looks like one of the format and is damaged: every reader must refuse it as BadFile.
struct DamagedExample {
  std::string name, bytes;
};

struct Format {
  std::string key;                   // one word: "tiff", "laz"
  std::string name;                  // "GeoTIFF", "LAZ"
  std::vector<std::string> endings;  // ".tif", ".tiff": in small letters, the usual one first
  std::string media_type;            // "image/tiff; application=geotiff"
  std::string media_word;            // what media types of it contain: "tiff"; empty where none is known
  // What may lie beside a file under its name, also as NAME.EXT.json: ".prj", ".json".
  std::vector<std::string> beside;
  // It tells all itself: on the web nothing beside it is asked for.
  bool alone = false;
  // Its content is a sure sign; else the name has to say it, too (lines of three numbers may be anything).
  bool sure = true;
  // Files of another kind have its ending, too: inside an archive it is not told from them by its name.
  bool shares_ending = false;
  bool heights_only = false;  // it holds no other quantity
  bool fits_range = false;    // its values are steps between the lowest and the highest
  bool points_only = false;   // of features
  bool lonlat = false;        // features are always in longitude and latitude of WGS 84
  std::string opened_by;      // what people open it with, where features are written: "drawing and CAD programs"
  DamagedExample damaged;

  std::vector<Holds> read, written;  // what is read from it, and written into it, here
  bool holds(Holds what, Use use) const;
  bool ends(std::string_view file) const;
};

// In the order in which content is tried.
const std::vector<Format>& formats();

// The format of a name, by its ending; null when it is none of them. `holds`: only those that such things are read
// from.
const Format* format_of(const std::filesystem::path& path);
const Format* format_of(const std::filesystem::path& path, Holds holds, Use use = Use::Read);
// By a media type, "image/tiff; application=geotiff"; null when it says nothing.
const Format* format_of_media(std::string_view type);

// Whether a name ends in that, in small letters or in capitals.
bool has_ending(const std::filesystem::path& path, std::string_view ending);

// ".tif, .tiff, .asc": for messages.
std::string endings_of(Holds holds, Use use);
// What lines and areas are written as: those for features without those that hold points alone.
std::string endings_of_lines();

// The files on the disk that lie beside one: those of its format's row that exist, and its .json. For names without a
// format all that any format has.
std::vector<std::filesystem::path> files_beside(const std::filesystem::path& path);

}  // namespace katoptra
