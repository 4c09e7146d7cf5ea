#include "hdf5_file.hpp"

#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

namespace katoptra {

Hdf5File::Hdf5File(const Located& file) : name_(file.bytes->name()), path_(file.path), state_(file.path) {
  std::lock_guard lock(container_lock());
  Id access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
  if (file.path.empty()) {
    std::vector<std::uint8_t> memory = container_bytes(file);
    H5Pset_fapl_core(access.get(), 1 << 20, false);
    H5Pset_file_image(access.get(), memory.data(), memory.size());
    file_ = Id(H5Fopen("inside", H5F_ACC_RDONLY, access.get()), H5Fclose);
  } else {
    file_ = Id(H5Fopen(file.path.c_str(), H5F_ACC_RDONLY, access.get()), H5Fclose);
  }
  if (!file_.ok())
    throw Error(ErrorCode::BadFile, "is not a readable HDF5 file", name_, "it is truncated or damaged; fetch it again");
}

Hdf5File::~Hdf5File() {
  std::lock_guard lock(container_lock());
  planes_.clear();
  file_ = Id();
}

bool Hdf5File::has(const std::string& path) const {
  for (std::size_t slash = path.find('/');; slash = path.find('/', slash + 1)) {
    if (H5Lexists(file_.get(), path.substr(0, slash).c_str(), H5P_DEFAULT) <= 0) return false;
    if (slash == path.npos) return true;
  }
}

Id Hdf5File::dataset(const std::string& path) const {
  return Id(H5Dopen2(file_.get(), path.c_str(), H5P_DEFAULT), H5Dclose);
}

Id Hdf5File::object(const std::string& path) const {
  return Id(H5Oopen(file_.get(), path.empty() ? "/" : path.c_str(), H5P_DEFAULT), H5Oclose);
}

std::optional<double> Hdf5File::number(const std::string& path, const char* attribute) const {
  const Id of = object(path);
  if (!of.ok() || H5Aexists(of.get(), attribute) <= 0) return std::nullopt;
  const Id a(H5Aopen(of.get(), attribute, H5P_DEFAULT), H5Aclose), type(H5Aget_type(a.get()), H5Tclose),
      space(H5Aget_space(a.get()), H5Sclose);
  const H5T_class_t kind = H5Tget_class(type.get());
  double v = 0;
  // Enumerations are told by their numbers.
  const Id base(kind == H5T_ENUM ? H5Tget_super(type.get()) : -1, H5Tclose);
  if ((kind != H5T_INTEGER && kind != H5T_FLOAT && kind != H5T_ENUM) || H5Sget_simple_extent_npoints(space.get()) != 1)
    return std::nullopt;
  if (kind == H5T_ENUM) {
    std::int64_t raw = 0;
    const std::size_t size = H5Tget_size(type.get());
    if (size > sizeof raw || H5Aread(a.get(), type.get(), &raw) < 0 ||
        H5Tconvert(base.get(), H5T_NATIVE_INT64, 1, &raw, nullptr, H5P_DEFAULT) < 0)
      return std::nullopt;
    return static_cast<double>(raw);
  }
  if (H5Aread(a.get(), H5T_NATIVE_DOUBLE, &v) < 0) return std::nullopt;
  return v;
}

std::string Hdf5File::text(const std::string& path, const char* attribute) const {
  constexpr std::size_t kMost = 4096;
  const Id of = object(path);
  if (!of.ok() || H5Aexists(of.get(), attribute) <= 0) return {};
  const Id a(H5Aopen(of.get(), attribute, H5P_DEFAULT), H5Aclose), type(H5Aget_type(a.get()), H5Tclose),
      space(H5Aget_space(a.get()), H5Sclose);
  if (H5Tget_class(type.get()) != H5T_STRING || H5Sget_simple_extent_npoints(space.get()) != 1) return {};
  if (H5Tis_variable_str(type.get()) > 0) {
    char* words = nullptr;
    if (H5Aread(a.get(), type.get(), &words) < 0 || !words) return {};
    const std::string out(words, ::strnlen(words, kMost));
    H5free_memory(words);
    return out;
  }
  const std::size_t n = H5Tget_size(type.get());
  if (n > kMost) return {};
  std::string out(n, '\0');
  if (H5Aread(a.get(), type.get(), out.data()) < 0) return {};
  return out.substr(0, out.find('\0'));
}

void Hdf5File::open_planes(const std::vector<std::string>& paths) {
  for (const std::string& p : paths) planes_.push_back(has(p) ? dataset(p) : Id());
}

std::optional<std::pair<hsize_t, hsize_t>> size_of(const Id& plane) {
  Id space(plane.ok() ? H5Dget_space(plane.get()) : -1, H5Sclose);
  hsize_t dims[2] = {0, 0};
  if (!space.ok() || H5Sget_simple_extent_ndims(space.get()) != 2 ||
      H5Sget_simple_extent_dims(space.get(), dims, nullptr) != 2)
    return std::nullopt;
  return std::pair{dims[1], dims[0]};
}

std::int64_t chunk_rows(const Id& plane) {
  Id properties(H5Dget_create_plist(plane.get()), H5Pclose);
  hsize_t dims[2] = {0, 0};
  if (!properties.ok() || H5Pget_layout(properties.get()) != H5D_CHUNKED ||
      H5Pget_chunk(properties.get(), 2, dims) != 2)
    return 0;
  return static_cast<std::int64_t>(dims[0]);
}

BlockCache::Bytes Plane::operator()(std::int64_t first, std::int64_t rows) const {
  const hsize_t start[2] = {static_cast<hsize_t>(first), 0}, count[2] = {static_cast<hsize_t>(rows), cols_};
  BlockCache::Bytes out(static_cast<std::size_t>(count[0] * count[1]) * sizeof(float), 0);
  std::lock_guard lock(container_lock());
  const Id& plane = file_->plane(plane_);
  Id record;
  if (!member_.empty()) {
    record = Id(H5Tcreate(H5T_COMPOUND, sizeof(float)), H5Tclose);
    H5Tinsert(record.get(), member_.c_str(), 0, H5T_NATIVE_FLOAT);
  }
  Id file_space(H5Dget_space(plane.get()), H5Sclose), memory(H5Screate_simple(2, count, nullptr), H5Sclose);
  if (H5Sselect_hyperslab(file_space.get(), H5S_SELECT_SET, start, nullptr, count, nullptr) < 0 ||
      H5Dread(plane.get(), record.ok() ? record.get() : H5T_NATIVE_FLOAT, memory.get(), file_space.get(), H5P_DEFAULT,
              out.data()) < 0)
    throw Error(ErrorCode::BadFile, fmt::format("rows {} to {} from the south cannot be read", first, first + rows - 1),
                file_->name(), "it is truncated or damaged; fetch it again");
  file_->expect_unchanged();
  return out;
}

}  // namespace katoptra
