// Formats that are written row by row from the north. Making the bytes of a band of rows is a pure function and runs on
// every core; placing them happens in order.
#pragma once
#include <filesystem>
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

class RowWriter {
 public:
  virtual ~RowWriter() = default;
  virtual std::vector<std::uint8_t> encode(const Block& rows) const = 0;
  virtual void place(const Window& band, std::span<const std::uint8_t> bytes) = 0;
  // Gives the file its name and completes the report: bytes, format.
  virtual void finish(WriteReport& report) = 0;
};

// The grid as the format can hold it (cells, type, range); Refused or Unsupported, with the way out, when it cannot.
// Writers below take what these give.
Grid fit_for_hgt(const Grid& grid, const std::filesystem::path& path);

std::unique_ptr<RowWriter> hgt_writer(const std::filesystem::path& path, const WriteOptions& options);
std::unique_ptr<RowWriter> ascii_writer(const std::filesystem::path& path, const GridInfo& info, const StoredAs& as,
                                        const WriteOptions& options);
std::unique_ptr<RowWriter> flat_writer(const std::filesystem::path& path, const GridInfo& info, const StoredAs& as,
                                       const WriteOptions& options);
std::unique_ptr<RowWriter> xyz_writer(const std::filesystem::path& path, const GridInfo& info,
                                      const WriteOptions& options);
std::unique_ptr<RowWriter> netcdf_writer(const std::filesystem::path& path, const GridInfo& info, const StoredAs& as,
                                         const WriteOptions& options);
// `lowest` and `highest` decide the step of the samples.
std::unique_ptr<RowWriter> png_writer(const std::filesystem::path& path, const GridInfo& info, double lowest,
                                      double highest, const WriteOptions& options);

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
WriteReport write_tiff(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options);

}  // namespace katoptra
