// A row of the table of formats: its facts, and the functions that read and write it. A function that is not there is
// something that is not done with the format.
#pragma once
#include <filesystem>
#include <memory>
#include <span>

#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/feature.hpp"

#include "formats/bytes/located.hpp"

namespace katoptra {

struct FormatRow {
  Format facts;  // `read` and `written` are filled in from the functions
  bool (*recognises)(const Located& file, std::span<const std::uint8_t> head) = nullptr;
  // The grid and the facts of the file itself; what lies beside it and what was assigned is added by the caller.
  GridFile (*open_grid)(const Located& file, const OpenOptions& options) = nullptr;
  PointFile (*open_points)(const Located& file, const PointOpenOptions& options) = nullptr;
  Layer (*read_layer)(const std::filesystem::path& path, const Crs& otherwise) = nullptr;
  WriteReport (*write_grid)(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options) = nullptr;
  // Fills in what came out; the caller commits the sink.
  void (*write_points)(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options,
                       PointWriteReport& report) = nullptr;
  LayerReport (*write_layer)(const Layer& layer, const std::filesystem::path& path, bool overwrite) = nullptr;
  // Feature by feature; where there is none, layers are whole.
  std::unique_ptr<LayerWriter> (*open_writer)(const Layer& like, const std::filesystem::path& path,
                                              bool overwrite) = nullptr;
  bool is_archive = false;
};

// In the order in which content is tried.
const std::vector<FormatRow>& format_rows();
// By the ending of the name, among those with the function; null when there is none.
const FormatRow* row_of(const std::filesystem::path& path, Holds holds, Use use);
// The first row that recognises the content; null when none does.
const FormatRow* row_recognising(const Located& file);

}  // namespace katoptra
