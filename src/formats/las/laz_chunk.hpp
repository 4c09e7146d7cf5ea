// Chunks of compressed point records, after the LAZ format: the first record of a chunk stands as it is, the others are
// coded by what changed since the one before. Formats 0 to 5 keep all fields in one stream (items of version 2),
// formats 6 and above keep each field in a layer of its own (version 3), so that what is not wanted is not decoded.
//
//   ChunkCoder coder(LazFormat::for_records(6, 30));
//   std::vector<std::uint8_t> chunk = coder.encode(records, count);
//   coder.decode(chunk, count, records);
//
// A ChunkCoder serves one thread; chunks do not depend on one another.
#pragma once
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <vector>

namespace katoptra::laz {

// Numbers of the format.
enum class ItemType : std::uint16_t {
  Bytes = 0,
  Point10 = 6,
  Time11 = 7,
  Rgb12 = 8,
  Wave13 = 9,
  Point14 = 10,
  Rgb14 = 11,
  RgbNir14 = 12,
  Wave14 = 13,
  Bytes14 = 14
};
struct Item {
  ItemType type = ItemType::Point10;
  std::uint16_t size = 0, version = 0;
};

enum class Packing : std::uint16_t { None = 0, Whole = 1, Chunks = 2, Layers = 3 };

struct LazFormat {
  Packing packing = Packing::Chunks;
  std::uint32_t chunk_size = 50000;  // points; 0xFFFFFFFF: chunks of any size, told by the chunk table
  std::vector<Item> items;

  // How we write a point format (0 to 3, 6 to 8) whose records have that length. Unsupported for others.
  static LazFormat for_records(int point_format, int record_length);
  // From the content of its record in the header. BadFile or Unsupported, without `where`.
  static LazFormat parse(std::span<const std::uint8_t> record);
  std::vector<std::uint8_t> record() const;

  int record_length() const;
  bool layered() const { return packing == Packing::Layers; }
  bool varies() const { return chunk_size == 0xFFFFFFFF; }
};

// Fields of formats 6 and above that a reader may leave out; x, y, returns and channel always come.
struct WantedLayers {
  bool z = true, classification = true, flags = true, intensity = true, scan_angle = true, user_data = true,
       source = true, time = true, colour = true, infrared = true, extra = true;
};

class ChunkCoder {
 public:
  explicit ChunkCoder(const LazFormat& format);
  ~ChunkCoder();
  ChunkCoder(ChunkCoder&&) noexcept;

  // Fills `records` with `count` of them; returns how many bytes of `chunk` they took. What is not wanted keeps the
  // value of the first record. BadFile when the chunk is damaged: `good`, when given, is how many records came whole.
  std::size_t decode(std::span<const std::uint8_t> chunk, std::size_t count, std::uint8_t* records,
                     const WantedLayers& wanted = {}, std::size_t* good = nullptr);
  std::vector<std::uint8_t> encode(const std::uint8_t* records, std::size_t count);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

// What the other layers of a record need to know of the layer of its place.
struct PlaceStep {
  std::uint8_t changed = 0, channel = 0, bits = 0, median = 0, level = 0, place = 0, single = 0;
};

// A chunk of any size, a number of records at a time: neither its bytes nor its records are all in memory. Layers can
// be decoded in groups, the place of each record in the first, on as many threads.
class ChunkStream {
 public:
  // Bytes from `offset` on of what begins with the chunk; fewer than asked for only where that ends. For every group
  // from the thread of that.
  using Read = std::function<std::size_t(std::uint64_t offset, std::span<std::uint8_t> out)>;
  // BadFile when it ends within its head or holds another number of records than `count`.
  ChunkStream(const LazFormat& format, std::uint64_t count, Read read, std::size_t most_groups = 1);
  ~ChunkStream();
  ChunkStream(ChunkStream&&) noexcept;

  std::size_t groups() const;
  // The next `n` of them, of which the fields of a group are set, by the steps that group 0 gave for the same records.
  // BadFile and `good` as ChunkCoder::decode; what a layer lacks at its end is told with the last record.
  void next(std::size_t group, std::size_t n, std::uint8_t* records, std::vector<PlaceStep>& steps,
            std::size_t* good = nullptr);
  // Sets the fields of a group, other than 0, in records of group 0.
  void join(std::size_t group, std::size_t n, const std::uint8_t* from, std::uint8_t* records) const;
  // Bytes of the chunk, when all has been read.
  std::uint64_t taken() const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

// The table of chunks as it stands behind them: points (where chunks vary) and bytes of each.
struct ChunkSize {
  std::uint32_t points = 0;
  std::uint32_t bytes = 0;
};
std::vector<std::uint8_t> encode_chunk_table(const std::vector<ChunkSize>& chunks, bool varies);
// `most`: how many chunks there can be. BadFile when the table is damaged.
std::vector<ChunkSize> decode_chunk_table(std::span<const std::uint8_t> bytes, bool varies, std::uint64_t most);

}  // namespace katoptra::laz
