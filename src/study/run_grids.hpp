// The grids of a study's run: files in its folder, or sheets in folders of their own where the study asks for them.
#pragma once
#include <filesystem>
#include <string>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/study/study.hpp"

namespace katoptra {

class RunGrids {
 public:
  RunGrids(const Study& study, std::filesystem::path folder) : study_(study), folder_(std::move(folder)) {}

  bool in_sheets() const { return study_.sheets.has_value(); }
  // What a grid of that name opens by, in the folder of the run: "slope.tif", or "slope/slope.sheets.geojson".
  std::string name(const std::string& file) const;
  // `key`: what it is made from. Sheets of it that are whole are not made again.
  WriteReport write(const Grid& grid, const std::string& file, const std::string& key, const WriteOptions& options) const;
  // All that its name leads to is there.
  bool is_whole(const std::string& file) const;

 private:
  const Study& study_;
  std::filesystem::path folder_;
};

}  // namespace katoptra
