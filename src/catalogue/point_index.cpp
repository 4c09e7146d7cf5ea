#include "katoptra/catalogue/point_index.hpp"

#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <sys/stat.h>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/points/select.hpp"

#include "base/text.hpp"

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

namespace {

// A name for what is kept of a file.
std::string key_of(const fs::path& file) {
  Sha256 name;
  const std::string whole = fs::absolute(file).lexically_normal().string();
  name.add(bytes_of(whole.data(), whole.size()));
  return name.hex().substr(0, 32);
}

// As the whole cloud says of itself; a level knows its own number and place of points.
PointCloud told_as(const PointCloud& level, const PointInfo& whole) {
  return relabelled(level, [&](PointInfo& i) {
    i.name = whole.name;
    i.crs = whole.crs;
    i.quantity = whole.quantity;
    i.sources = whole.sources;
    i.notes = whole.notes;
  });
}

std::vector<PointCloud> upper_nodes(const PointCloud& cloud, const fs::path& file) {
  std::vector<PointCloud> out;
  const Bounds b = cloud.info().bounds;
  const double unit = cloud.info().crs && !cloud.info().crs.is_geographic() ? cloud.info().crs.unit_factor() : 0;
  if (!(unit > 0) || b.empty() || cloud.info().count == 0) return out;
  double apart = std::sqrt(b.width() * b.height() / static_cast<double>(cloud.info().count)) * unit;
  std::uint64_t before = cloud.info().count;
  for (int level = 0; level < 24 && before > kFewPoints; ++level) {
    apart *= 2;
    const PointCloud coarse = open_points(file, {.open = {}, .spacing = Length::metres(apart)});
    if (coarse.info().count == 0) break;
    if (coarse.info().count > before / 2) continue;
    before = coarse.info().count;
    out.push_back(told_as(coarse, cloud.info()));
  }
  return out;
}

}  // namespace

std::vector<PointCloud> kept_levels(const PointCloud& cloud, const fs::path& file, const fs::path& cache,
                                    const RunOptions& run) {
  struct stat st {};
  const PointInfo& info = cloud.info();
  if (info.count <= kFewPoints || info.record_format < 0 || cloud.parts() == 0 || ::stat(file.c_str(), &st) != 0)
    return {};
  const bool laz = lower_extension(file) == ".laz";
  // An octree tells the boxes of its nodes before anything was decoded.
  if (laz && !open_points(file).part(0).box.empty()) return upper_nodes(cloud, file);
  if (cache.empty()) return {};
  std::vector<PointCloud> out;
  const std::string key = key_of(file),
                    stamp = fmt::format("{}-{}.{}", st.st_size, st.st_mtim.tv_sec, st.st_mtim.tv_nsec);
  std::error_code ec;
  fs::create_directories(cache / "points", ec);
  // What was kept of the file as it was before is of no use.
  for (const auto& entry : fs::directory_iterator(cache / "points", ec)) {
    const std::string name = entry.path().filename().string();
    if (name.starts_with(key + "-") && name.find(stamp) == name.npos) fs::remove(entry.path(), ec);
  }
  PointCloud last = cloud;
  try {
    for (int level = 1; last.info().count > kFewPoints; ++level) {
      const fs::path kept = cache / "points" / fmt::format("{}-{}-{}.laz", key, stamp, level);
      if (!fs::exists(kept, ec)) {
        PointWriteOptions write{.overwrite = true};
        write.run = run;
        write_points(select(last, {.every = 4}), kept, write);
      }
      last = with_kept_index(open_points(kept), kept, cache, run);
      out.push_back(told_as(last, info));
    }
  } catch (const Error& e) {
    // A full disk: from far away everything is read, as without levels.
    if (e.code() == ErrorCode::Cancelled) throw;
  }
  return out;
}

PointCloud with_kept_index(const PointCloud& cloud, const fs::path& file, const fs::path& cache,
                           const RunOptions& run) {
  struct stat st {};
  if (cloud.parts() < 2 || cloud.info().record_format < 0 || !cloud.part(0).box.empty() ||
      ::stat(file.c_str(), &st) != 0)
    return cloud;
  const Stamp stamp{static_cast<std::uint64_t>(st.st_size), cloud.parts(), st.st_mtim.tv_sec, st.st_mtim.tv_nsec};
  const fs::path kept = cache.empty() ? fs::path() : cache / "points" / (key_of(file) + ".index");
  std::vector<Bounds> boxes = kept.empty() ? std::vector<Bounds>() : kept_boxes(kept, stamp);
  if (boxes.empty()) {
    RunOptions quiet = run;
    quiet.silent = true;
    boxes = part_boxes(cloud, quiet);
    if (!kept.empty()) keep(kept, stamp, boxes);
  }
  return with_boxes(cloud, std::move(boxes));
}

}  // namespace katoptra
