#include "katoptra/catalogue/point_index.hpp"

#include <cstring>
#include <fmt/format.h>
#include <sys/stat.h>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/formats/bytes.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr char kMagic[] = "katoptra point index 1\n";

// What the file was when its index was made.
struct Stamp {
  std::uint64_t size = 0, parts = 0;
  std::int64_t seconds = 0, nanoseconds = 0;
};
static_assert(sizeof(Bounds) == 4 * sizeof(double) && sizeof(Stamp) == 32);

std::span<const std::uint8_t> bytes_of(const void* p, std::size_t n) {
  return {static_cast<const std::uint8_t*>(p), n};
}

std::vector<Bounds> kept_boxes(const fs::path& path, const Stamp& stamp) {
  std::error_code ec;
  if (!fs::is_regular_file(path, ec)) return {};
  const auto file = open_file(path);
  const std::size_t head = sizeof kMagic - 1 + sizeof stamp;
  if (file->size() != head + stamp.parts * sizeof(Bounds)) return {};
  std::vector<std::uint8_t> b(static_cast<std::size_t>(file->size()));
  file->read_exactly(0, b);
  if (std::memcmp(b.data(), kMagic, sizeof kMagic - 1) != 0 ||
      std::memcmp(b.data() + sizeof kMagic - 1, &stamp, sizeof stamp) != 0)
    return {};
  std::vector<Bounds> boxes(static_cast<std::size_t>(stamp.parts));
  std::memcpy(boxes.data(), b.data() + head, boxes.size() * sizeof(Bounds));
  return boxes;
}

void keep(const fs::path& path, const Stamp& stamp, const std::vector<Bounds>& boxes) {
  std::error_code ec;
  fs::create_directories(path.parent_path(), ec);
  std::vector<std::uint8_t> b;
  for (const auto& part : {bytes_of(kMagic, sizeof kMagic - 1), bytes_of(&stamp, sizeof stamp),
                           bytes_of(boxes.data(), boxes.size() * sizeof(Bounds))})
    b.insert(b.end(), part.begin(), part.end());
  try {
    write_file(path, b, {.overwrite = true});
  } catch (const Error&) {
    // Without a place to keep it the index is made again next time.
  }
}

}  // namespace

PointCloud with_kept_index(const PointCloud& cloud, const fs::path& file, const fs::path& cache,
                           const RunOptions& run) {
  struct stat st {};
  if (cloud.parts() < 2 || cloud.info().record_format < 0 || !cloud.part(0).box.empty() ||
      ::stat(file.c_str(), &st) != 0)
    return cloud;
  const Stamp stamp{static_cast<std::uint64_t>(st.st_size), cloud.parts(), st.st_mtim.tv_sec, st.st_mtim.tv_nsec};
  Sha256 name;
  const std::string whole = fs::absolute(file).lexically_normal().string();
  name.add(bytes_of(whole.data(), whole.size()));
  const fs::path kept = cache.empty() ? fs::path() : cache / "points" / (name.hex().substr(0, 32) + ".index");
  std::vector<Bounds> boxes = kept.empty() ? std::vector<Bounds>() : kept_boxes(kept, stamp);
  if (boxes.empty()) {
    RunOptions quiet = run;
    quiet.progress = nullptr;
    boxes = part_boxes(cloud, quiet);
    if (!kept.empty()) keep(kept, stamp, boxes);
  }
  return with_boxes(cloud, std::move(boxes));
}

}  // namespace katoptra
