#include "katoptra/formats/xyz.hpp"

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <mutex>
#include <sys/mman.h>
#include <unistd.h>
#include <unordered_set>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "base/text.hpp"
#include "formats/bytes/descriptor.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "text_scan.hpp"
#include "xyz_dialect.hpp"

namespace katoptra {
using namespace xyz;
namespace {

// More distinct x or y than this, and it is no lattice.
constexpr std::size_t kMostDistinct = 2'000'000;

// ------------------------------------------------------------------------------------------------------ the lattice

struct Steps {
  double first = 0, step = 0;
  std::int64_t count = 0;
};

// The regular steps on which sorted, distinct coordinates lie; nullopt when they do not.
std::optional<Steps> steps_of(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  const double noise = std::max(std::abs(v.front()), std::abs(v.back())) * 1e-13;
  if (v.size() == 1) return Steps{v[0], 0, 1};
  double smallest = std::numeric_limits<double>::infinity();
  for (std::size_t i = 1; i < v.size(); ++i)
    if (v[i] - v[i - 1] > noise) smallest = std::min(smallest, v[i] - v[i - 1]);
  if (!std::isfinite(smallest)) return Steps{v[0], 0, 1};
  // Coordinates printed with few digits differ by a little more or less than a step.
  double step = smallest;
  for (int round = 0; round < 3; ++round) {
    double index = 0;
    for (std::size_t i = 1; i < v.size(); ++i) index += std::round((v[i] - v[i - 1]) / step);
    if (!(index >= 1) || index > std::numeric_limits<std::int32_t>::max()) return std::nullopt;
    step = (v.back() - v.front()) / index;
  }
  for (double x : v) {
    const double at = (x - v.front()) / step;
    if (std::abs(at - std::round(at)) > kLatticeSlack) return std::nullopt;
  }
  return Steps{v.front(), step, static_cast<std::int64_t>(std::llround((v.back() - v.front()) / step)) + 1};
}

std::optional<Frame> frame_of(const std::vector<double>& xs, const std::vector<double>& ys, std::uint64_t points,
                              const Crs& crs) {
  auto x = steps_of(xs), y = steps_of(ys);
  if (!x || !y || points < 4) return std::nullopt;
  if (x->step == 0) x->step = y->step;
  if (y->step == 0) y->step = x->step;
  const double cells = static_cast<double>(x->count) * static_cast<double>(y->count);
  if (!(x->step > 0) || static_cast<double>(points) < kLatticeFilled * cells) return std::nullopt;
  const double north = y->first + static_cast<double>(y->count - 1) * y->step;
  return NodeFrame{crs, x->first, north, {x->step, y->step}, x->count, y->count}.cells();
}

struct PieceFacts {
  std::unordered_set<double> xs, ys;
  std::uint64_t points = 0;
  Bounds bounds;
  double lowest = std::numeric_limits<double>::infinity(), highest = -std::numeric_limits<double>::infinity();
  bool whole = true;
};

// `collect`: keep the distinct coordinates, too.
PieceFacts facts_of(const ByteSource& bytes, const Dialect& d, std::uint64_t begin, std::uint64_t end, bool collect) {
  PieceFacts f;
  double last_x = std::nan(""), last_y = std::nan("");
  each_point(bytes, d, begin, end, [&](const XyzPoint& p) {
    ++f.points;
    f.bounds.include(Point{p.x, p.y});
    if (std::isfinite(p.z) && std::abs(p.z) < kNoValueFrom) {
      f.lowest = std::min(f.lowest, p.z);
      f.highest = std::max(f.highest, p.z);
    }
    f.whole = f.whole && p.whole;
    if (!collect) return;
    if (p.x != last_x) f.xs.insert(last_x = p.x);
    if (p.y != last_y) f.ys.insert(last_y = p.y);
  });
  return f;
}

// The facts of all pieces together. A few pieces are alive at once, and once there are too many distinct coordinates
// for a lattice they are not kept any longer, so that memory does not grow with the file.
PieceFacts facts_of_all(const ByteSource& bytes, const Dialect& d) {
  PieceFacts all;
  std::atomic<bool> collect{true};
  parallel_ordered(
      piece_count(bytes, d.data), static_cast<std::size_t>(2 * thread_count({})), {},
      [&](std::size_t i) -> std::shared_ptr<void> {
        const std::uint64_t begin = d.data + i * kTextPiece;
        return std::make_shared<PieceFacts>(
            facts_of(bytes, d, begin, std::min(bytes.size(), begin + kTextPiece), collect));
      },
      [&](std::size_t, std::shared_ptr<void> result) {
        PieceFacts& p = *static_cast<PieceFacts*>(result.get());
        all.points += p.points;
        all.bounds.include(p.bounds);
        all.lowest = std::min(all.lowest, p.lowest);
        all.highest = std::max(all.highest, p.highest);
        all.whole = all.whole && p.whole;
        if (!collect) return;
        all.xs.merge(p.xs);
        all.ys.merge(p.ys);
        if (all.xs.size() <= kMostDistinct && all.ys.size() <= kMostDistinct) return;
        collect = false;
        all.xs = {};
        all.ys = {};
      });
  return all;
}

// ------------------------------------------------------------------------------------------------------- the raster

// Floats that may be many: in memory, or in a temporary file without a name.
class Scratch {
 public:
  Scratch(std::size_t cells, const std::string& file) {
    constexpr std::size_t kInMemory = std::size_t{64} << 20;
    bytes_ = cells * sizeof(float);
    int fd = -1;
    if (bytes_ > kInMemory) {
      fd = open_unnamed_file(file);
      if (::posix_fallocate(fd, 0, static_cast<off_t>(bytes_)) != 0) {
        ::close(fd);
        throw Error(ErrorCode::Io, "no temporary file can be made for its cells", file,
                    "set TMPDIR to a folder with room");
      }
    }
    void* at =
        ::mmap(nullptr, bytes_, PROT_READ | PROT_WRITE, fd >= 0 ? MAP_SHARED : MAP_PRIVATE | MAP_ANONYMOUS, fd, 0);
    if (fd >= 0) ::close(fd);
    if (at == MAP_FAILED) throw Error(ErrorCode::TooLarge, "its cells do not fit into memory", file);
    values_ = static_cast<float*>(at);
  }
  ~Scratch() { ::munmap(values_, bytes_); }
  Scratch(const Scratch&) = delete;
  Scratch& operator=(const Scratch&) = delete;
  float* values() const { return values_; }

 private:
  float* values_ = nullptr;
  std::size_t bytes_ = 0;
};

// The cells, put in place when the first of them is read.
class XyzRaster {
 public:
  XyzRaster(std::shared_ptr<ByteSource> bytes, Dialect dialect, Frame frame, double hole)
      : bytes_(std::move(bytes)), dialect_(std::move(dialect)), frame_(std::move(frame)), hole_(hole) {}

  BlockCache::Bytes rows(std::int64_t first, std::int64_t rows) {
    std::call_once(once_, [&] { load(); });
    const float* from = scratch_->values() + first * frame_.cols();
    BlockCache::Bytes out(static_cast<std::size_t>(rows * frame_.cols()) * sizeof(float), 0);
    std::copy_n(reinterpret_cast<const std::uint8_t*>(from), out.size(), out.data());
    return out;
  }

 private:
  struct Placed {
    std::size_t cell;
    float z;
  };
  void load() {
    const auto cells = static_cast<std::size_t>(frame_.cols() * frame_.rows());
    scratch_ = std::make_unique<Scratch>(cells, bytes_->name());
    std::fill_n(scratch_->values(), cells, kVoid);
    parallel_ordered(
        piece_count(*bytes_, dialect_.data), static_cast<std::size_t>(2 * thread_count({})), {},
        [&](std::size_t i) -> std::shared_ptr<void> {
          auto placed = std::make_shared<std::vector<Placed>>();
          const std::uint64_t begin = dialect_.data + i * kTextPiece;
          each_point(*bytes_, dialect_, begin, std::min(bytes_->size(), begin + kTextPiece), [&](const XyzPoint& p) {
            const auto col = static_cast<std::int64_t>(std::floor(frame_.col_at(p.x))),
                       row = static_cast<std::int64_t>(std::floor(frame_.row_at(p.y)));
            if (col < 0 || row < 0 || col >= frame_.cols() || row >= frame_.rows()) return;
            const bool none = !(std::abs(p.z) < kNoValueFrom) || p.z == hole_;
            placed->push_back(
                {static_cast<std::size_t>(row * frame_.cols() + col), none ? kVoid : static_cast<float>(p.z)});
          });
          return placed;
        },
        [&](std::size_t, std::shared_ptr<void> result) {
          for (const Placed& p : *static_cast<std::vector<Placed>*>(result.get())) scratch_->values()[p.cell] = p.z;
        });
  }

  std::shared_ptr<ByteSource> bytes_;
  Dialect dialect_;
  Frame frame_;
  double hole_;
  std::once_flag once_;
  std::unique_ptr<Scratch> scratch_;
};

}  // namespace

XyzFacts look_at_xyz(const ByteSource& bytes, const XyzOptions& options) {
  const Dialect d = dialect_of(bytes, options);
  const PieceFacts all = facts_of_all(bytes, d);
  XyzFacts f;
  f.delimiter = d.delimiter;
  f.header = d.header;
  f.depths = d.depths;
  f.whole_numbers = all.whole;
  std::copy(d.names.begin(), d.names.end(), f.column_names);
  f.points = all.points;
  f.bounds = all.bounds;
  f.lowest = all.lowest;
  f.highest = all.highest;
  if (d.geographic) f.crs = Crs::wgs84();
  if (!all.xs.empty())
    f.lattice = frame_of({all.xs.begin(), all.xs.end()}, {all.ys.begin(), all.ys.end()}, all.points, f.crs);
  return f;
}

void each_xyz(const ByteSource& bytes, const XyzOptions& options,
              const std::function<void(double, double, double)>& body) {
  const Dialect d = dialect_of(bytes, options);
  for (std::uint64_t at = d.data; at < bytes.size(); at += kTextPiece)
    each_point(bytes, d, at, std::min(bytes.size(), at + kTextPiece), [&](const XyzPoint& p) { body(p.x, p.y, p.z); });
}

bool is_xyz(std::span<const std::uint8_t> head) {
  const std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
  for (const char c : text)
    if (static_cast<unsigned char>(c) < 9 || (static_cast<unsigned char>(c) > 13 && static_cast<unsigned char>(c) < 32))
      return false;
  int others = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::string_view line = next_line(text, at);
    bool comma = false;
    if (is_comment(line)) continue;
    if (found_delimiter(line, comma)) return true;
    if (++others > 1) return false;
  }
  return false;
}

GridFile open_xyz(const Located& file, const OpenOptions& options) {
  const XyzOptions how{.columns = options.columns, .delimiter = options.delimiter, .depths = options.depths};
  const XyzFacts f = look_at_xyz(*file.bytes, how);
  if (!f.lattice)
    throw Error(ErrorCode::Unsupported,
                fmt::format("holds {} points that lie on no lattice: soundings, not a grid", f.points),
                file.bytes->name(), "use it as points, for instance with sample");
  GridFile out;
  out.facts.format = "XYZ text";
  out.facts.layout = fmt::format("columns {}, {}, {}", f.column_names[0], f.column_names[1], f.column_names[2]);
  out.facts.pixel_is_point = true;
  GridInfo info;
  info.frame = *f.lattice;
  SampleRule rule{.type = SampleType::Float32, .hole = {}};
  describe_samples(rule, info);
  if (f.whole_numbers && std::max(std::abs(f.lowest), std::abs(f.highest)) < 16777216)
    info.type = f.lowest >= -32768 && f.highest <= 32767 ? SampleType::Int16 : SampleType::Int32;
  const double hole = options.void_value ? (f.depths ? 0 - *options.void_value : *options.void_value) : std::nan("");
  out.facts.depths_turned = f.depths;
  if (f.depths) info.notes.push_back("depths, positive down, were turned into heights");
  auto raster = std::make_shared<XyzRaster>(file.bytes, dialect_of(*file.bytes, how), *f.lattice, hole);
  const std::int64_t rows_per_block = convenient_rows(info.frame.cols(), SampleType::Float32);
  out.grid = grid_of_rows(std::move(info), rule, rows_per_block,
                          [raster](std::int64_t first, std::int64_t rows) { return raster->rows(first, rows); });
  return out;
}

}  // namespace katoptra
