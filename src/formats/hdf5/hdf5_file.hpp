// An HDF5 file with planes of samples: what BAG and S-102 have in common. The lock of container.hpp is held by callers
// where it says so.
#pragma once
#include <cstdint>
#include <filesystem>
#include <hdf5.h>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "container.hpp"
#include "formats/bytes/descriptor.hpp"
#include "formats/rows_source.hpp"

namespace katoptra {

// One HDF5 identifier, closed by its own function. The lock is held by the caller.
class Id {
 public:
  Id() = default;
  Id(hid_t id, herr_t (*close)(hid_t)) : id_(id), close_(close) {}
  Id(Id&& o) noexcept : id_(std::exchange(o.id_, -1)), close_(o.close_) {}
  Id& operator=(Id&& o) noexcept {
    std::swap(id_, o.id_);
    std::swap(close_, o.close_);
    return *this;
  }
  ~Id() {
    if (id_ >= 0) close_(id_);
  }
  hid_t get() const { return id_; }
  bool ok() const { return id_ >= 0; }

 private:
  hid_t id_ = -1;
  herr_t (*close_)(hid_t) = nullptr;
};

class Hdf5File {
 public:
  explicit Hdf5File(const Located& file);  // BadFile
  ~Hdf5File();
  Hdf5File(const Hdf5File&) = delete;
  Hdf5File& operator=(const Hdf5File&) = delete;

  const std::string& name() const { return name_; }
  void expect_unchanged() const { state_.expect_at(path_, name_); }
  // With the lock held:
  bool has(const std::string& path) const;  // every part of it
  Id dataset(const std::string& path) const;
  // A number of the root or of a group or dataset; nothing where there is none such.
  std::optional<double> number(const std::string& path, const char* attribute) const;
  std::string text(const std::string& path, const char* attribute) const;
  // Datasets that stay open as long as the file does.
  void open_planes(const std::vector<std::string>& paths);
  const Id& plane(std::size_t i) const { return planes_[i]; }

 private:
  Id object(const std::string& path) const;
  std::string name_;
  std::filesystem::path path_;
  FileState state_;
  Id file_;
  std::vector<Id> planes_;
};

// Columns and rows of a plane. With the lock held.
std::optional<std::pair<hsize_t, hsize_t>> size_of(const Id& plane);
// Rows of its chunks; 0 for none. With the lock held.
std::int64_t chunk_rows(const Id& plane);

// Decodes rows of a plane as floats; `member`: of a plane of records, the one that is wanted.
class Plane {
 public:
  Plane(std::shared_ptr<const Hdf5File> file, std::size_t plane, std::int64_t cols, std::string member = {})
      : file_(std::move(file)), plane_(plane), cols_(static_cast<hsize_t>(cols)), member_(std::move(member)) {}
  BlockCache::Bytes operator()(std::int64_t first, std::int64_t rows) const;

 private:
  std::shared_ptr<const Hdf5File> file_;
  std::size_t plane_;
  hsize_t cols_;
  std::string member_;
};

// Cells without a value, in both formats.
inline constexpr double kSeaVoid = 1000000;

}  // namespace katoptra
