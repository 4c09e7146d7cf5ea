// Formats that are written row by row from the north. Making the bytes of a band of rows is a pure function and runs on
// every core; placing them happens in order.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <filesystem>
#include <limits>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/surface/clip.hpp"

#include "samples.hpp"

namespace katoptra {

// What is told of the uncertainties that were written, gathered block by block.
struct Sureness {
  std::int64_t cells = 0;
  double squares = 0;
  float lowest = std::numeric_limits<float>::infinity(), highest = 0;

  void add(float u) {
    if (std::isnan(u)) return;
    ++cells;
    squares += static_cast<double>(u) * static_cast<double>(u);
    lowest = std::min(lowest, u);
    highest = std::max(highest, u);
  }
  void add(const Sureness& o) {
    cells += o.cells;
    squares += o.squares;
    lowest = std::min(lowest, o.lowest);
    highest = std::max(highest, o.highest);
  }
  WriteReport::Sureness told() const {
    if (cells == 0) return {};
    return {cells, static_cast<double>(lowest), static_cast<double>(highest),
            std::sqrt(squares / static_cast<double>(cells))};
  }
};

class RowWriter {
 public:
  virtual ~RowWriter() = default;
  virtual std::vector<std::uint8_t> encode(const Block& rows) const = 0;
  // What it encodes has the uncertainty with it.
  virtual bool writes_uncertainty() const { return false; }
  virtual void place(const Window& band, std::span<const std::uint8_t> bytes) = 0;
  // Gives the file its name and completes the report: bytes, format.
  virtual void finish(WriteReport& report) = 0;
};

// What all row formats do: bands of rows are coded on all cores and placed in order, the extremes are measured on the
// way, and the lineage is written beside. `as`: how values are stored.
WriteReport write_rows(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options,
                       const StoredAs& as, std::unique_ptr<RowWriter> writer);
// The smallest and largest value; +inf and -inf where all are void.
std::pair<double, double> extremes_of(const Grid& grid, const RunOptions& run);
// Text and flat files have no sign for "not a number" that everybody reads.
StoredAs stored_plainly(const GridInfo& info, const WriteOptions& options, const std::string& file);

// The options with what a trial on the grid says of packing it, for files of its parts; as they are for other formats,
// and where nothing is gained by packing.
WriteOptions with_tried_coding(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);

// One writer a format. Each refuses, with the way out, what the format cannot hold (cells, type, range).
WriteReport write_tiff(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_hgt(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_dted(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_ascii_grid(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_flat(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_xyz(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_netcdf(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_bag(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_s102(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);
WriteReport write_png(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);

// Several of one surface in one pass; all of them have its frame.
std::vector<WriteReport> write_tiffs(const Grid& surface, const std::vector<GridTarget>& targets,
                                     const WriteOptions& options);
// Date and survey where they are not given and all sources agree: what they say is true of the whole.
WriteOptions with_agreed_facts(WriteOptions options, const GridInfo& info);

// What stands beside a file. Made before the first cell is computed, so that nothing is lost when one of them may not
// be written; given their names together with the file.
class FilesBeside {
 public:
  explicit FilesBeside(const WriteOptions& options) : options_(options) {}
  // A file that is there already with the same text stays as it is.
  void add(const std::filesystem::path& path, const std::string& text);
  // NAME.prj, and NAME.EXT.json with what the format cannot say.
  void add_references(const std::filesystem::path& path, const GridInfo& info);
  // What an earlier file of the name left behind goes away with it. Io when it may not.
  void remove(const std::filesystem::path& path);
  void commit(WriteReport& report);

 private:
  WriteOptions options_;
  std::vector<std::filesystem::path> stale_;
  std::vector<std::pair<std::filesystem::path, std::unique_ptr<ByteSink>>> files_;
};

// A file whose bytes come one after the other, with what stands beside it.
class SequentialWriter : public RowWriter {
 public:
  SequentialWriter(const std::filesystem::path& path, const GridInfo& info, const WriteOptions& options)
      : path_(path), info_(info), beside_(options), sink_(create_file(path, {.overwrite = options.overwrite})) {}
  void place(const Window&, std::span<const std::uint8_t> bytes) override {
    sink_->write_at(at_, bytes);
    at_ += bytes.size();
  }
  void finish(WriteReport& report) override {
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
  }

 protected:
  std::filesystem::path path_;
  GridInfo info_;
  FilesBeside beside_;

 private:
  std::unique_ptr<ByteSink> sink_;
  std::uint64_t at_ = 0;
};

// The origin codes alone, for files that hold no such plane; counts them.
void write_lineage(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options,
                   WriteReport& report);

}  // namespace katoptra
