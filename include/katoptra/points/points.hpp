// Survey points as columns: what a cloud of points is, and how its points flow.
//
//   PointCloud sheet = open_points("sheet_a1.laz");             // header only; nothing is decoded yet
//   PointCloud ground = select(sheet, {.classes = {2}});        // lazy: each part is filtered when it is read
//   for_each_batch(ground, PointFields::Class, {}, [](const PointBatch& b) { use(b.x, b.y, b.z, b.classification); });
//
// A PointCloud is a cheap immutable handle on a PointSource: points in parts (chunks of a file, nodes of an octree)
// that are read one by one, on any thread, so that a chain of operations runs over any number of points in the memory
// of a few parts. Coordinates are absolute, in the CRS of the cloud: nothing is shifted that nobody asked to shift, and
// a coordinate that came from integers (scale and offset of a LAS file) goes back to the very same integers.
//
// The order of points is that of the parts, and of the points in each; it never depends on threads.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/base/run_options.hpp"
#include "katoptra/geo/crs.hpp"
#include "katoptra/geo/geometry.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/grid/quantity.hpp"

namespace katoptra {

// ---- columns

// What is known of each point beside its place; a set.
enum class PointFields : std::uint32_t {
  None = 0,
  Intensity = 1,
  Return = 2,    // number of the return and how many the pulse had
  Class = 4,     // as ASPRS numbers them: 2 ground, 6 building, 7 low noise, 9 water, 18 high noise ...
  Flags = 8,     // PointFlags
  Angle = 16,    // of the beam, in steps of 0.006 degrees
  User = 32,     // a byte for whatever its owner means
  Source = 64,   // flight line
  Time = 128,    // seconds, see PointInfo::time
  Colour = 256,  // red, green, blue, 0 to 65535
  Infrared = 512,
  Extra = 1024,     // attributes that the file itself describes
  Waveform = 2048,  // the record that leads to the waveform
  All = 4095
};
constexpr PointFields operator|(PointFields a, PointFields b) {
  return static_cast<PointFields>(static_cast<std::uint32_t>(a) | static_cast<std::uint32_t>(b));
}
constexpr PointFields operator&(PointFields a, PointFields b) {
  return static_cast<PointFields>(static_cast<std::uint32_t>(a) & static_cast<std::uint32_t>(b));
}
constexpr bool has(PointFields set, PointFields one) { return (set & one) == one; }

// Bits of PointBatch::flags.
enum PointFlags : std::uint8_t {
  kSynthetic = 1,
  kKeyPoint = 2,
  kWithheld = 4,
  kOverlap = 8,
  kScanForward = 16,  // direction of the scanner's mirror
  kEdgeOfLine = 32,   // the last point of a scan
  kChannelShift = 6,  // two bits: the scanner channel
};

// Points as columns of equal length; a column is empty when it was not asked for or is not there.
struct PointBatch {
  std::vector<double> x, y, z;  // z in the unit of the cloud's quantity
  std::vector<std::uint16_t> intensity;
  std::vector<std::uint8_t> return_number, return_count, classification, flags, user;
  std::vector<std::int16_t> angle;
  std::vector<std::uint16_t> source;
  std::vector<double> time;
  std::vector<std::uint16_t> red, green, blue, infrared;
  std::vector<std::uint8_t> extra, waveform;  // extra_bytes and kWaveformBytes a point

  std::size_t size() const { return x.size(); }
  void clear();
  // Room for `n` points in the columns of `fields`; `extra_bytes` a point in `extra`.
  void resize(std::size_t n, PointFields fields, int extra_bytes);
  // Keeps the points whose mark is not zero, in their order.
  void keep(const std::vector<std::uint8_t>& marks);
  // Points of another batch with the same columns behind these.
  void append(const PointBatch& other);
};
inline constexpr int kWaveformBytes = 29;
inline constexpr double kAngleStep = 0.006;  // degrees

// ---- what a cloud says of itself

// An attribute that the file describes, beside those that all files know.
struct ExtraAttribute {
  std::string name, description;
  int type =
      0;  // 1 uint8, 2 int8, 3 uint16, 4 int16, 5 uint32, 6 int32, 7 uint64, 8 int64, 9 float, 10 double; 0: bytes
  int at = 0, bytes = 0;  // its place among the extra bytes of a point
  double scale = 1, offset = 0;
  std::optional<double> no_data;
  std::vector<std::uint8_t> record;  // 192 bytes, as the file has it
  // Its value in a point's extra bytes; NaN for no data and plain bytes.
  double value(const std::uint8_t* extra) const;
};

// The integers behind coordinates: x = integer * step.x + origin.x.
struct PointLattice {
  double step[3] = {0.001, 0.001, 0.001}, origin[3] = {0, 0, 0};
  bool operator==(const PointLattice&) const = default;
};

enum class PointTime { None, WeekSeconds, Standard };  // seconds of the GPS week; GPS seconds minus 1e9

struct PointInfo {
  std::string name;
  Crs crs;
  Quantity quantity;  // of z: unit and vertical reference
  PointFields fields = PointFields::None;
  std::uint64_t count = 0;  // how many points at most
  Bounds bounds;            // holds all points; may be wider, and as wrong as the header of a file
  bool exact = true;        // count and bounds are those of its points, as far as its file can be believed
  double lowest = 0, highest = 0;
  std::optional<PointLattice> lattice;  // none for text
  int record_format = -1;               // point format of LAS; -1 for text
  PointTime time = PointTime::None;
  std::vector<ExtraAttribute> extra;
  int extra_bytes = 0;
  std::vector<SourceRecord> sources;
  std::vector<std::string> notes;
};

// A run of points that is read at once.
struct PointPart {
  std::uint64_t count = 0;   // at most
  Bounds box;                // holds all of them; empty when that is not known
  std::uint64_t first = 0;   // running number of its first point in the file
  std::uint32_t source = 0;  // which of the sources of the cloud it is of
};

class PointSource {
 public:
  virtual ~PointSource() = default;
  virtual const PointInfo& info() const = 0;
  virtual std::size_t parts() const = 0;
  virtual PointPart part(std::size_t i) const = 0;
  // Fills `out` with the points of a part; columns of fields that the cloud lacks stay empty. Thread-safe.
  virtual void read(std::size_t i, PointFields fields, PointBatch& out) const = 0;
};

class PointCloud {
 public:
  PointCloud() = default;
  explicit PointCloud(std::shared_ptr<const PointSource> source) : source_(std::move(source)) {}
  explicit operator bool() const { return source_ != nullptr; }
  const PointInfo& info() const { return source_->info(); }
  std::size_t parts() const { return source_->parts(); }
  PointPart part(std::size_t i) const { return source_->part(i); }
  void read(std::size_t i, PointFields fields, PointBatch& out) const { source_->read(i, fields, out); }
  PointBatch read(std::size_t i, PointFields fields = PointFields::All) const;

 private:
  std::shared_ptr<const PointSource> source_;
};

// How many points there are and where: what the cloud says where that is exact, else found in one pass.
struct PointTally {
  std::uint64_t count = 0;
  Bounds bounds;
};
PointTally tally(const PointCloud& cloud, const RunOptions& run = {});

// Points held in memory, in parts of at most `part_size`. BadArgument when columns differ in length.
PointCloud points_from_batch(PointBatch batch, const PointInfo& info, std::size_t part_size = 65536);
// The same points under other facts.
PointCloud relabelled(const PointCloud& cloud, const std::function<void(PointInfo&)>& change);

// The box around the points of each part, found in one pass; and the cloud with such boxes, so that operations by area
// read only the parts that matter. BadArgument unless there is a box for each part.
std::vector<Bounds> part_boxes(const PointCloud& cloud, const RunOptions& run = {});
PointCloud with_boxes(const PointCloud& cloud, std::vector<Bounds> boxes);
// Without the parts whose boxes are known to miss `box`; points of the others are not looked at.
PointCloud parts_near(const PointCloud& cloud, const Bounds& box);

// Reads all parts, in parallel: `map` runs on any thread with a batch, `reduce` gets its results in the order of parts.
void map_points(const PointCloud& cloud, PointFields fields, const RunOptions& options,
                const std::function<std::shared_ptr<void>(std::size_t part, PointBatch& batch)>& map,
                const std::function<void(std::shared_ptr<void>)>& reduce);
// Reads all parts in parallel and hands them on in order, one at a time.
void for_each_batch(const PointCloud& cloud, PointFields fields, const RunOptions& options,
                    const std::function<void(const PointBatch&)>& body);

// "ground", "low vegetation" ...; "class 70" for numbers without a meaning of their own.
std::string class_name(int classification);
// A number, or a name as class_name writes it ("ground", "building"). BadArgument otherwise.
int parse_class(std::string_view text);

}  // namespace katoptra
