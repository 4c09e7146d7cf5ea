// The files of a folder as a catalogue sees them.
#pragma once
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/catalogue/catalogue.hpp"

namespace katoptra {

// What survey.toml says.
struct FolderRecord {
  std::string name, date, licence, custodian;
  std::vector<std::string> restricted, key;  // stems of file names
  StatedUncertainty uncertainty;
  bool skip = false;
  bool products = false;  // what Katoptra made of several files counts as a tile here
};

struct FolderFile {
  std::filesystem::path path;
  // Changes when the file, what lies beside it under its name, or the record above it changes.
  std::string stamp;
  const FolderRecord* record = nullptr;
};
struct FolderListing {
  std::map<std::filesystem::path, FolderRecord> records;
  std::vector<FolderFile> files;  // by path; no products, no records, nothing that is to be skipped
};
// Io when it is no folder; BadFile when a record is damaged.
FolderListing list_folder(const std::filesystem::path& folder);
// The tiles in one file: none when it is no grid, several for an archive.
std::vector<TileRecord> tiles_in_file(const FolderFile& file);

}  // namespace katoptra
