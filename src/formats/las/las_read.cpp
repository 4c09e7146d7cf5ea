// From a file to a cloud of parts that can be read alone. LAS is cut into parts of equal size; LAZ by its table of
// chunks; without a usable table the chunks of layers are walked along by the sizes they tell, and what is one stream
// is decoded once into a temporary file, as is a chunk that is too large to be held. COPC goes by its octree where that
// agrees with the header. A header is believed only as far as the bytes behind it go: promises are bounded before
// memory is asked for.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <optional>

#include "katoptra/base/error.hpp"

#include "base/pool.hpp"
#include "formats/bytes/descriptor.hpp"
#include "large_chunk.hpp"
#include "las_source.hpp"
#include "laz_items.hpp"

namespace katoptra::las {
namespace {

using laz::ChunkCoder;
using laz::LazFormat;
using laz::load;

constexpr std::uint64_t kPlainPart = 50000;

// One that is held while it is decoded; or some of the points of one that is not, from a record of it on.
struct Chunk {
  std::uint64_t at = 0, bytes = 0, points = 0, first = 0;
  Bounds box;
  std::shared_ptr<LargeChunk> large = nullptr;
  std::uint64_t from = 0;
};

// What of them is too large to be held, in parts.
std::vector<Chunk> in_parts(const std::shared_ptr<ByteSource>& file, const LazFormat& format, std::vector<Chunk> chunks,
                            const HeldChunks& held) {
  const auto length = static_cast<std::uint64_t>(format.record_length());
  std::vector<Chunk> out;
  for (Chunk& c : chunks) {
    if (c.points <= held.points && c.points <= held.bytes / length) {
      out.push_back(std::move(c));
      continue;
    }
    const auto large = std::make_shared<LargeChunk>(file, format, c.at, c.bytes, c.points);
    for (std::uint64_t from = 0; from < c.points; from += kPlainPart)
      out.push_back({c.at, c.bytes, std::min(kPlainPart, c.points - from), c.first + from, c.box, large, from});
  }
  return out;
}

// ---- records as they stand

class PlainSource : public PointSource {
 public:
  PlainSource(std::shared_ptr<ByteSource> file, Header header, PointInfo info)
      : file_(std::move(file)), header_(std::move(header)), info_(std::move(info)) {}
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return static_cast<std::size_t>((info_.count + kPlainPart - 1) / kPlainPart); }
  PointPart part(std::size_t i) const override {
    const std::uint64_t from = i * kPlainPart;
    return {std::min(kPlainPart, info_.count - from), {}, from};
  }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    const PointPart p = part(i);
    const auto length = static_cast<std::size_t>(header_.record_length);
    auto bytes = pool_.take([] { return std::vector<std::uint8_t>(); });
    bytes.resize(static_cast<std::size_t>(p.count) * length);
    file_->read_exactly(header_.points_at + p.first * length, bytes);
    records_to_batch(header_, bytes.data(), static_cast<std::size_t>(p.count), fields, out);
    pool_.give(std::move(bytes));
  }

 private:
  std::shared_ptr<ByteSource> file_;
  Header header_;
  PointInfo info_;
  mutable Pool<std::vector<std::uint8_t>> pool_;
};

// ---- chunks

laz::WantedLayers layers_for(PointFields f) {
  using F = PointFields;
  return {.z = true,
          .classification = has(f, F::Class),
          .flags = has(f, F::Flags),
          .intensity = has(f, F::Intensity),
          .scan_angle = has(f, F::Angle),
          .user_data = has(f, F::User),
          .source = has(f, F::Source),
          .time = has(f, F::Time),
          .colour = has(f, F::Colour),
          .infrared = has(f, F::Infrared),
          .extra = has(f, F::Extra)};
}

class ChunkedSource : public PointSource {
 public:
  ChunkedSource(std::shared_ptr<ByteSource> file, Header header, PointInfo info, LazFormat format,
                std::vector<Chunk> chunks, bool salvage)
      : file_(std::move(file)),
        header_(std::move(header)),
        info_(std::move(info)),
        format_(std::move(format)),
        chunks_(std::move(chunks)),
        salvage_(salvage) {}
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return chunks_.size(); }
  PointPart part(std::size_t i) const override { return {chunks_[i].points, chunks_[i].box, chunks_[i].first}; }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    const Chunk& c = chunks_[i];
    auto work = pool_.take([&] { return Work{ChunkCoder(format_), {}, {}}; });
    std::size_t good = 0;
    const auto n = static_cast<std::size_t>(c.points);
    work.records.resize(n * static_cast<std::size_t>(header_.record_length));
    try {
      if (c.large) {
        c.large->read(c.from, n, work.records.data(), good);
      } else {
        work.bytes.resize(static_cast<std::size_t>(c.bytes));
        file_->read_exactly(c.at, work.bytes);
        work.coder.decode(work.bytes, n, work.records.data(), layers_for(fields), &good);
      }
      good = n;
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      if (!salvage_)
        damaged_behind(*file_, fmt::format("{} (points {} to {})", e.problem(), c.first + 1, c.first + c.points));
    }
    records_to_batch(header_, work.records.data(), good, fields, out);
    pool_.give(std::move(work));
  }

 private:
  struct Work {
    ChunkCoder coder;
    std::vector<std::uint8_t> bytes, records;
  };
  std::shared_ptr<ByteSource> file_;
  Header header_;
  PointInfo info_;
  LazFormat format_;
  std::vector<Chunk> chunks_;
  bool salvage_;
  mutable Pool<Work> pool_;
};

// Where the table of chunks begins: told in front of the points, or, by writers that could not go back, at the end.
std::uint64_t table_place(const ByteSource& f, const Header& h) {
  std::uint8_t b[8];
  f.read_exactly(h.points_at, b);
  auto at = load<std::int64_t>(b);
  if (at == -1 && f.size() >= 8) {
    f.read_exactly(f.size() - 8, b);
    at = load<std::int64_t>(b);
  }
  const bool inside = at > static_cast<std::int64_t>(h.points_at) && static_cast<std::uint64_t>(at) + 8 <= f.size();
  return inside ? static_cast<std::uint64_t>(at) : 0;
}

// The chunks by the table; empty when there is none that can be used, with the reason in `problem`.
std::vector<Chunk> chunks_by_table(const ByteSource& f, const Header& h, const LazFormat& format,
                                   std::string& problem) {
  const std::uint64_t table = table_place(f, h);
  if (table == 0) {
    problem = "it has no table of chunks";
    return {};
  }
  std::vector<Chunk> out;
  try {
    std::vector<std::uint8_t> bytes(static_cast<std::size_t>(std::min<std::uint64_t>(f.size() - table, 64 << 20)));
    f.read_exactly(table, bytes);
    const std::uint64_t most = (table - h.points_at) / static_cast<std::uint64_t>(h.record_length) + 1;
    std::uint64_t at = h.points_at + 8, first = 0;
    for (const laz::ChunkSize& c : laz::decode_chunk_table(bytes, format.varies(), most)) {
      const std::uint64_t points =
          format.varies() ? c.points : std::min<std::uint64_t>(format.chunk_size, h.points - std::min(first, h.points));
      if (c.bytes > table - at) throw Error(ErrorCode::BadFile, "a chunk reaches into the table of chunks");
      expect_plausible(points, c.bytes);
      if (points > 0) out.push_back({at, c.bytes, points, first, {}});
      at += c.bytes;
      first += points;
    }
  } catch (const Error& e) {
    problem = "its table of chunks cannot be used: " + e.problem();
    return {};
  }
  return out;
}

// Layers tell their sizes, so chunks can be walked along without decoding them.
std::vector<Chunk> chunks_by_walking(const ByteSource& f, const Header& h, const LazFormat& format) {
  std::vector<Chunk> out;
  const auto length = static_cast<std::uint64_t>(h.record_length);
  std::size_t layers = 9;
  for (const laz::Item& i : format.items)
    layers += i.type == laz::ItemType::Rgb14      ? 1
              : i.type == laz::ItemType::RgbNir14 ? 2
              : i.type == laz::ItemType::Bytes14  ? i.size
                                                  : 0;
  std::vector<std::uint8_t> head(4 + 4 * layers);
  std::uint64_t at = h.points_at + 8, first = 0;
  while (first < h.points && at + length + head.size() <= f.size()) {
    f.read_exactly(at + length, head);
    const std::uint64_t points = load<std::uint32_t>(head.data());
    std::uint64_t bytes = length + head.size();
    for (std::size_t i = 0; i < layers; ++i) bytes += load<std::uint32_t>(head.data() + 4 + 4 * i);
    if (points == 0 || points > std::min(h.points - first, most_points_in(bytes)) || bytes > f.size() - at) break;
    out.push_back({at, bytes, points, first, {}});
    at += bytes;
    first += points;
  }
  return out;
}

// Points in one stream, or chunks whose places are not known: decoded once, in order, into a temporary file.
std::uint64_t unpack_stream(const ByteSource& f, const Header& h, const LazFormat& format, int fd,
                            std::string& damage) {
  const auto length = static_cast<std::size_t>(h.record_length);
  const bool whole = format.packing == laz::Packing::Whole;
  const std::uint64_t chunk = whole ? h.points : format.chunk_size;
  std::uint64_t at = h.points_at + (whole ? 0 : 8), done = 0;
  require_room(std::min(h.points, most_points_in(f.size())) * length, f.name());
  std::vector<std::uint8_t> records;
  std::vector<laz::PlaceStep> steps;
  // Whether it went well; else it is told why.
  const auto went_well = [&](const auto& step) {
    try {
      step();
      return true;
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      damage = e.problem();
      return false;
    }
  };
  bool well = true;
  while (well && done < h.points && at < f.size()) {
    const std::uint64_t n = std::min(chunk, h.points - done);
    std::optional<laz::ChunkStream> stream;
    well = went_well([&] {
      stream.emplace(format, n,
                     [&](std::uint64_t offset, std::span<std::uint8_t> out) { return f.read_at(at + offset, out); });
    });
    for (std::uint64_t from = 0; well && from < n; from += kPlainPart) {
      const auto some = static_cast<std::size_t>(std::min(kPlainPart, n - from));
      std::size_t good = 0;
      records.resize(some * length);
      well = went_well([&] { stream->next(0, some, records.data(), steps, &good); });
      write_descriptor(fd, done * length, {records.data(), good * length}, "a temporary file");
      done += good;
    }
    if (well) at += stream->taken();
  }
  if (!well) damage += fmt::format(" (after point {})", done);
  return done;
}

std::string day_of_year(int year, int day) {
  if (year < 1980 || year > 2200 || day < 1 || day > 366) return {};
  const bool leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
  const int months[12] = {31, leap ? 29 : 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  int m = 0;
  while (m < 11 && day > months[m]) day -= months[m++];
  return fmt::format("{:04}-{:02}-{:02}", year, m + 1, std::min(day, months[m]));
}

PointInfo info_of(const Header& h, const References& refs) {
  PointInfo info;
  info.crs = refs.crs;
  info.quantity.heights = refs.heights;
  if (refs.unit) {
    info.quantity.unit = *refs.unit;
    info.quantity.unit_known = true;
  }
  info.fields = fields_of(h.point_format);
  info.count = h.points;
  info.bounds = {h.lowest[0], h.lowest[1], h.highest[0], h.highest[1]};
  info.lowest = h.lowest[2];
  info.highest = h.highest[2];
  info.lattice = h.lattice;
  info.record_format = h.point_format;
  if (has(info.fields, PointFields::Time)) info.time = h.standard_time ? PointTime::Standard : PointTime::WeekSeconds;
  info.extra_bytes = h.extra_bytes();
  if (info.extra_bytes > 0) info.fields = info.fields | PointFields::Extra;
  info.extra = extra_attributes(h);
  info.notes = refs.notes;
  return info;
}

// A file that holds fewer points than its header says is told so; what is there is taken.
void believe_at_most(Header& h, std::uint64_t there, PointFileFacts& facts) {
  if (there == h.points) return;
  facts.problems.push_back(fmt::format("its header tells of {} points, and {} are there", h.points, there));
  h.points = std::min(h.points, there);
}

PointCloud open_plain(const std::shared_ptr<ByteSource>& file, Header& h, PointFile& out,
                      const PointOpenOptions& options) {
  const std::uint64_t room = (file->size() - h.points_at) / static_cast<std::uint64_t>(h.record_length);
  if (room < h.points) {
    if (!options.salvage)
      damaged_behind(*file, fmt::format("ends after {} of the {} points that its header tells of", room, h.points));
    believe_at_most(h, room, out.facts);
  }
  return PointCloud(std::make_shared<PlainSource>(file, h, info_of(h, read_references(h))));
}

// How the points are compressed, which must fit what the header says of them.
LazFormat laz_format_of(const ByteSource& file, const Header& h) {
  const Record* record = h.find("laszip encoded", 22204);
  if (!record) damaged_behind(file, "says that its points are compressed, and not how");
  LazFormat format;
  try {
    format = LazFormat::parse(record->bytes);
  } catch (const Error& e) {
    throw Error(e.code(), e.problem(), file.name(), e.advice());
  }
  if (format.record_length() != h.record_length || format.layered() != (h.point_format >= 6))
    damaged_behind(file, "its record of the compression does not fit its points");
  return format;
}

PointCloud open_chunks(const std::shared_ptr<ByteSource>& file, Header& h, PointFile& out,
                       const PointOpenOptions& options, const HeldChunks& held) {
  const LazFormat format = laz_format_of(*file, h);
  out.facts.compression =
      format.packing == laz::Packing::Whole ? "one stream"
      : format.varies()                     ? fmt::format("{}chunks of any size", format.layered() ? "layers, " : "")
                        : fmt::format("{}{} points a chunk", format.layered() ? "layers, " : "", format.chunk_size);
  std::vector<Chunk> chunks;
  std::string problem;
  if (format.packing != laz::Packing::Whole && h.points > 0) {
    if (h.points_at + 8 > file->size()) damaged_behind(*file, "ends before its points");
    chunks = chunks_by_table(*file, h, format, problem);
    if (!problem.empty()) out.facts.problems.push_back(problem);
    if (chunks.empty() && format.layered()) chunks = chunks_by_walking(*file, h, format);
  }
  if (chunks.empty() && h.points > 0 && !format.layered() &&
      !(format.varies() && format.packing != laz::Packing::Whole)) {
    const int fd = open_unnamed_file(file->name());
    auto plain = std::make_shared<DescriptorSource>(file->name(), fd, 0);
    std::string damage;
    const std::uint64_t there = unpack_stream(*file, h, format, fd, damage);
    if (!damage.empty() && !options.salvage) damaged_behind(*file, damage);
    believe_at_most(h, there, out.facts);
    Header unpacked = h;
    unpacked.points_at = 0;
    return PointCloud(std::make_shared<PlainSource>(plain, unpacked, info_of(h, read_references(h))));
  }
  std::uint64_t there = 0;
  for (const Chunk& c : chunks) there += c.points;
  if (there < h.points && !options.salvage)
    damaged_behind(*file, fmt::format("tells of {} points, and {} can be found{}", h.points, there,
                                      problem.empty() ? "" : " (" + problem + ")"));
  believe_at_most(h, there, out.facts);
  return PointCloud(std::make_shared<ChunkedSource>(file, h, info_of(h, read_references(h)), format,
                                                    in_parts(file, format, std::move(chunks), held), options.salvage));
}

PointCloud open_octree(const std::shared_ptr<ByteSource>& file, const Header& h, const Record& copc,
                       const PointOpenOptions& options, const HeldChunks& held) {
  const References refs = read_references(h);
  PointInfo info = info_of(h, refs);
  Bounds box;
  if (options.area) box = (refs.crs ? options.area->in(refs.crs) : *options.area).bounds();
  const double unit = refs.crs && !refs.crs.is_geographic() ? refs.crs.unit_factor() : 1;
  std::vector<Chunk> chunks;
  std::uint64_t first = 0;
  for (const OctreeNode& n : octree_nodes(*file, copc, box, options.spacing.metres() / unit)) {
    expect_plausible(n.points, n.bytes);
    chunks.push_back({n.at, n.bytes, n.points, first, n.box});
    first += n.points;
  }
  if (first != info.count)
    info.notes.push_back(fmt::format("{} of {} points are in the nodes that were asked for", first, info.count));
  info.count = first;
  const LazFormat format = laz_format_of(*file, h);
  return PointCloud(std::make_shared<ChunkedSource>(file, h, info, format,
                                                    in_parts(file, format, std::move(chunks), held), options.salvage));
}

constexpr const char* kOctree = "layers, an octree of chunks";

// All points by the octree, so that each part tells where it lies; false where the chunks alone have to do.
bool open_whole_octree(const std::shared_ptr<ByteSource>& file, const Header& h, const Record& copc, PointFile& out,
                       const PointOpenOptions& options, const HeldChunks& held) {
  try {
    const PointCloud cloud = open_octree(file, h, copc, options, held);
    if (cloud.info().count != h.points) {
      out.facts.problems.push_back(
          fmt::format("its octree leads to {} of its {} points", cloud.info().count, h.points));
      return false;
    }
    out.cloud = cloud;
    return true;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::BadFile) throw;
    out.facts.problems.push_back("its octree cannot be used: " + e.problem());
    return false;
  }
}

}  // namespace

bool is_las(std::span<const std::uint8_t> head) { return head.size() >= 4 && std::memcmp(head.data(), "LASF", 4) == 0; }

PointFile open_las(const std::shared_ptr<ByteSource>& file, const PointOpenOptions& options, const HeldChunks& held) {
  Header h = read_header(*file);
  PointFile out;
  PointFileFacts& f = out.facts;
  f.bytes = file->size();
  f.record_format = h.point_format;
  f.record_length = h.record_length;
  f.declared = h.points;
  f.by_return.assign(h.by_return.begin(), h.by_return.end());
  f.system = h.system;
  f.software = h.software;
  f.date = day_of_year(h.year, h.day);
  f.crs_name = read_references(h).crs_name;
  f.problems = h.problems;
  const Record* copc = h.find("copc", 1);
  const bool octree = copc && copc->bytes.size() >= 160 && h.compressed;
  f.format = fmt::format("{} 1.{}", copc ? "COPC" : h.compressed ? "LAZ" : "LAS", h.minor);
  f.compression = "none";
  if (octree && (options.area || options.spacing > Length())) {
    f.compression = kOctree;
    out.cloud = open_octree(file, h, *copc, options, held);
  } else if (octree && open_whole_octree(file, h, *copc, out, options, held)) {
    f.compression = kOctree;
  } else if (h.compressed) {
    out.cloud = open_chunks(file, h, out, options, held);
  } else {
    out.cloud = open_plain(file, h, out, options);
  }
  return out;
}

}  // namespace katoptra::las
