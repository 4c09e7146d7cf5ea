// A catalogue in one SQLite file with an R*Tree over the boxes of its tiles. A million tiles are found in milliseconds.
//
//   CatalogueFile c("surveys.katalog");
//   c.add_items("items.json");                    // a STAC ItemCollection of any size
//   c.refresh_folder("surveys");                  // opens the headers of files that are new or changed only
//   c.search({.area = &area});
//
// Tiles are kept as the STAC items they are, so nothing that a catalogue says is lost. Filling is all or nothing. One
// object serves one thread at a time; several programs may read one file.
#pragma once
#include <filesystem>
#include <memory>
#include <string>

#include "katoptra/catalogue/catalogue.hpp"

namespace katoptra {

struct CatalogueUpdate {
  std::size_t items = 0;    // in the source now
  std::size_t read = 0;     // opened or parsed anew
  std::size_t removed = 0;  // no longer there
  double seconds = 0;
};

class CatalogueFile {
 public:
  // Made when it is not there. BadFile when it is something else.
  explicit CatalogueFile(const std::filesystem::path& path);
  ~CatalogueFile();
  CatalogueFile(CatalogueFile&&) noexcept;

  static bool is_one(const std::filesystem::path& path);

  CatalogueUpdate refresh_folder(const std::filesystem::path& folder, const RunOptions& run = {});
  // Of an ItemCollection on the disk; references count from where it stands. Items that it brought before are replaced.
  CatalogueUpdate add_items(const std::filesystem::path& path, const RunOptions& run = {});
  // What another catalogue gave.
  CatalogueUpdate add(const std::string& source, const Catalogue& catalogue);

  std::size_t size() const;
  Catalogue search(const CatalogueQuery& query = {}, const CatalogueOptions& options = {}) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace katoptra
