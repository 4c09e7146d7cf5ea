// Points as an octree of compressed chunks (Cloud Optimized Point Cloud 1.0). See write_copc.
#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <mutex>
#include <unordered_set>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "base/pool.hpp"
#include "base/scratch.hpp"
#include "las_write.hpp"

namespace katoptra::las {
namespace {

using laz::load;
using laz::store;
using Packed = std::vector<std::uint8_t>;

constexpr std::uint64_t kBoxes = 128;      // of a node along each axis, a point in each
constexpr std::size_t kTogether = 25'000;  // points that are not parted any more
constexpr int kDeepestNode = 20, kDeepestHeap = 8;
constexpr std::size_t kInfoBytes = 160, kEntryBytes = 32, kLongHead = 60;
constexpr int kLevelsOfPage = 5;
constexpr std::size_t kNodesOfOnePage = 10'000;

struct NodeKey {
  std::int32_t level = 0, x = 0, y = 0, z = 0;
  auto operator<=>(const NodeKey&) const = default;
  NodeKey above(int to) const {
    const int by = level - to;
    return {to, x >> by, y >> by, z >> by};
  }
};

// Where records lie in the cube.
class Cube {
 public:
  Cube(const PointLattice& lattice, const double low[3], const double high[3]) {
    for (int a = 0; a < 3; ++a) edge_ = std::max(edge_, high[a] - low[a] + 2 * lattice.step[a]);
    for (int a = 0; a < 3; ++a) {
      low_[a] = low[a] - lattice.step[a];
      step_[a] = lattice.step[a];
      origin_[a] = lattice.origin[a];
    }
  }
  double half() const { return edge_ / 2; }
  double centre(int a) const { return low_[a] + edge_ / 2; }
  // The number of the cell along an axis where the cube has that many.
  std::uint64_t cell(const std::uint8_t* record, int a, std::uint64_t cells) const {
    const double at = (load<std::int32_t>(record + 4 * a) * step_[a] + origin_[a] - low_[a]) / edge_;
    return static_cast<std::uint64_t>(std::clamp(at * static_cast<double>(cells), 0.0, static_cast<double>(cells - 1)));
  }
  NodeKey node(const std::uint8_t* record, int level) const {
    const auto along = [&](int a) { return static_cast<std::int32_t>(cell(record, a, std::uint64_t{1} << level)); };
    return {level, along(0), along(1), along(2)};
  }
  // The box of a level's samples that it lies in.
  std::array<std::uint64_t, 3> box(const std::uint8_t* record, int level) const {
    const std::uint64_t n = kBoxes << level;
    return {cell(record, 0, n), cell(record, 1, n), cell(record, 2, n)};
  }

 private:
  double low_[3], step_[3], origin_[3], edge_ = 0;
};

struct Node {
  NodeKey key;
  Packed records;
};

// Parts the records below a node into nodes, in memory.
class Parting {
 public:
  Parting(const Cube& cube, std::size_t stride, const Packed& records)
      : cube_(cube), stride_(stride), records_(records) {}

  // Of all of them, which lie in nodes of that level.
  std::vector<Node> nodes_from(int level) {
    std::map<NodeKey, std::vector<std::uint32_t>> roots;
    const std::size_t n = records_.size() / stride_;
    for (std::size_t i = 0; i < n; ++i) roots[cube_.node(at(i), level)].push_back(static_cast<std::uint32_t>(i));
    for (auto& [key, points] : roots) part(key, std::move(points));
    // Coarse levels first.
    std::stable_sort(out_.begin(), out_.end(), [](const Node& a, const Node& b) { return a.key.level < b.key.level; });
    return std::move(out_);
  }

 private:
  const std::uint8_t* at(std::size_t i) const { return records_.data() + i * stride_; }
  void part(NodeKey key, std::vector<std::uint32_t> points) {
    std::vector<std::uint32_t> kept, left;
    if (points.size() <= kTogether || key.level >= kDeepestNode) {
      kept = std::move(points);
    } else {
      taken_.assign(kBoxes * kBoxes * kBoxes / 64, 0);
      for (const std::uint32_t i : points) (takes_box(at(i), key.level) ? kept : left).push_back(i);
      points = {};
    }
    Node node{key, {}};
    node.records.reserve(kept.size() * stride_);
    for (const std::uint32_t i : kept) node.records.insert(node.records.end(), at(i), at(i) + stride_);
    out_.push_back(std::move(node));
    std::map<NodeKey, std::vector<std::uint32_t>> below;
    for (const std::uint32_t i : left) below[cube_.node(at(i), key.level + 1)].push_back(i);
    left = {};
    for (auto& [child, some] : below) part(child, std::move(some));
  }
  bool takes_box(const std::uint8_t* record, int level) {
    const auto b = cube_.box(record, level);
    const std::uint64_t i = (b[2] % kBoxes * kBoxes + b[1] % kBoxes) * kBoxes + b[0] % kBoxes;
    std::uint64_t& word = taken_[i / 64];
    const std::uint64_t bit = std::uint64_t{1} << (i % 64);
    if (word & bit) return false;
    word |= bit;
    return true;
  }

  const Cube& cube_;
  std::size_t stride_;
  const Packed& records_;
  std::vector<std::uint64_t> taken_;
  std::vector<Node> out_;
};

// Records in numbered heaps, in a temporary file once they are more than the budget.
class RecordHeaps {
 public:
  RecordHeaps(std::size_t heaps, std::size_t budget) : heaps_(heaps), budget_(budget) {}
  ~RecordHeaps() {
    if (scratch_ >= 0) ::close(scratch_);
  }
  RecordHeaps(const RecordHeaps&) = delete;
  RecordHeaps& operator=(const RecordHeaps&) = delete;
  void add(std::size_t heap, const std::uint8_t* record, std::size_t stride) {
    Packed& held = heaps_[heap].held;
    held.insert(held.end(), record, record + stride);
    in_memory_ += stride;
    if (in_memory_ > budget_) spill();
  }
  std::size_t count() const { return heaps_.size(); }
  Packed read(std::size_t heap) const {
    Packed out;
    for (const auto& [at, bytes] : heaps_[heap].pieces) {
      const std::size_t from = out.size();
      out.resize(from + bytes);
      if (read_descriptor(scratch_, at, std::span(out.data() + from, bytes), kName) != bytes)
        throw Error(ErrorCode::Io, "the temporary file ends early", kName, "check the disk");
    }
    out.insert(out.end(), heaps_[heap].held.begin(), heaps_[heap].held.end());
    return out;
  }

 private:
  static constexpr const char* kName = "a temporary file";
  struct Heap {
    std::vector<std::pair<std::uint64_t, std::size_t>> pieces;
    Packed held;
  };
  void spill() {
    if (scratch_ < 0) scratch_ = open_unnamed_file("points");
    for (Heap& h : heaps_) {
      if (h.held.empty()) continue;
      write_descriptor(scratch_, spilled_, h.held, kName);
      h.pieces.emplace_back(spilled_, h.held.size());
      spilled_ += h.held.size();
      Packed().swap(h.held);
    }
    in_memory_ = 0;
  }
  std::vector<Heap> heaps_;
  std::size_t budget_, in_memory_ = 0;
  std::uint64_t spilled_ = 0;
  int scratch_ = -1;
};

// What is found by a first reading.
struct Extent {
  double low[3] = {INFINITY, INFINITY, INFINITY}, high[3] = {-INFINITY, -INFINITY, -INFINITY};
  double first_time = INFINITY, last_time = -INFINITY;
  std::uint64_t points = 0;
};
Extent extent_of(const PointCloud& cloud, const RunOptions& run) {
  Extent e;
  for_each_batch(cloud, PointFields::Time, run, [&](const PointBatch& b) {
    const std::vector<double>* of[3] = {&b.x, &b.y, &b.z};
    for (int a = 0; a < 3; ++a)
      for (const double v : *of[a]) {
        e.low[a] = std::min(e.low[a], v);
        e.high[a] = std::max(e.high[a], v);
      }
    for (const double t : b.time) {
      e.first_time = std::min(e.first_time, t);
      e.last_time = std::max(e.last_time, t);
    }
    e.points += b.size();
  });
  return e;
}

// Columns and rows of the cube in heaps that fit into memory: a quadtree, told for each of the finest squares.
struct HeapPlan {
  std::vector<std::uint16_t> heap;  // of each square
  std::vector<std::uint8_t> level;  // of each heap
  static constexpr std::uint64_t kSquares = std::uint64_t{1} << kDeepestHeap;
};

class CopcWriter {
 public:
  CopcWriter(const PointCloud& cloud, Header header, ByteSink& sink, const RunOptions& run, std::size_t heap)
      : cloud_(cloud),
        header_(std::move(header)),
        sink_(sink),
        run_(run),
        stride_(static_cast<std::size_t>(header_.record_length)),
        capacity_(heap),
        extent_(extent_of(cloud, run)),
        cube_(header_.lattice, extent_.low, extent_.high) {
    format_ = laz::LazFormat::for_records(header_.point_format, header_.record_length);
    format_.chunk_size = 0xFFFFFFFF;
    header_.records.insert(header_.records.begin(), Record{"copc", 1, Packed(kInfoBytes, 0)});
    header_.records.push_back({"laszip encoded", 22204, format_.record()});
    at_ = header_bytes(header_).size() + 8;
  }

  std::uint64_t write() {
    if (extent_.points <= capacity_)
      write_whole();
    else
      write_in_heaps();
    return finish();
  }
  const Header& header() const { return header_; }
  std::size_t nodes() const { return entries_.size(); }

 private:
  struct Entry {
    NodeKey key;
    std::uint64_t at = 0;
    std::uint32_t bytes = 0, points = 0;
  };
  struct Coded {
    NodeKey key;
    Packed bytes;
    std::size_t points = 0;
  };

  // Calls body(record) for all of them, in order.
  template <class Body>
  void each_record(const Body& body) const {
    const PointFields fields =
        fields_of(header_.point_format) | (header_.extra_bytes() > 0 ? PointFields::Extra : PointFields::None);
    map_points(
        cloud_, fields, run_,
        [&](std::size_t, PointBatch& b) -> std::shared_ptr<void> {
          auto records = std::make_shared<Packed>(b.size() * stride_);
          batch_to_records(header_, b, records->data());
          return records;
        },
        [&](const std::shared_ptr<void>& made) {
          const Packed& records = *static_cast<Packed*>(made.get());
          for (std::size_t i = 0; i < records.size(); i += stride_) body(records.data() + i);
        });
  }

  void write_whole() {
    Packed records;
    records.reserve(extent_.points * stride_);
    each_record([&](const std::uint8_t* r) { records.insert(records.end(), r, r + stride_); });
    write_heaps(1, [&](std::size_t) { return Parting(cube_, stride_, records).nodes_from(0); });
  }

  // Samples of the levels above the heaps are taken as points come; the rest waits in heaps.
  void write_in_heaps() {
    const HeapPlan plan = plan_heaps();
    RecordHeaps heaps(plan.level.size(), run_.memory / 4);
    std::map<NodeKey, Packed> upper;
    std::vector<std::unordered_set<std::uint64_t>> taken(kDeepestHeap);
    std::size_t samples = 0;
    each_record([&](const std::uint8_t* r) {
      const std::size_t heap = plan.heap[square_of(r)];
      for (int level = 0; level < plan.level[heap]; ++level) {
        const auto b = cube_.box(r, level);
        constexpr int kBits = 21;
        if (!taken[static_cast<std::size_t>(level)].insert((b[2] << kBits | b[1]) << kBits | b[0]).second) continue;
        Packed& node = upper[cube_.node(r, level)];
        node.insert(node.end(), r, r + stride_);
        require_room(++samples);
        return;
      }
      heaps.add(heap, r, stride_);
    });
    taken.clear();
    write_heaps(1, [&](std::size_t) {
      std::vector<Node> nodes;
      for (auto& [key, records] : upper) nodes.push_back({key, std::move(records)});
      return nodes;
    });
    upper.clear();
    write_heaps(heaps.count(), [&](std::size_t i) {
      const Packed records = heaps.read(i);
      return Parting(cube_, stride_, records).nodes_from(plan.level[i]);
    });
  }
  void require_room(std::size_t samples) const {
    constexpr std::size_t kBytesOfMark = 48;
    if (samples * (stride_ + kBytesOfMark) > std::max<std::size_t>(run_.memory, 64 << 20))
      throw Error(ErrorCode::TooLarge, "its coarse levels do not fit into memory", cloud_.info().name,
                  "give more --memory, or write it in sheets");
  }
  std::size_t square_of(const std::uint8_t* r) const {
    return static_cast<std::size_t>(cube_.cell(r, 1, HeapPlan::kSquares) * HeapPlan::kSquares +
                                    cube_.cell(r, 0, HeapPlan::kSquares));
  }

  HeapPlan plan_heaps() const {
    constexpr std::uint64_t n = HeapPlan::kSquares;
    std::vector<std::uint64_t> count(n * n);
    each_record([&](const std::uint8_t* r) { ++count[square_of(r)]; });
    HeapPlan plan{std::vector<std::uint16_t>(n * n), {}};
    divide(count, 0, 0, 0, plan);
    return plan;
  }
  void divide(const std::vector<std::uint64_t>& count, int level, std::uint64_t x, std::uint64_t y,
              HeapPlan& plan) const {
    constexpr std::uint64_t n = HeapPlan::kSquares;
    const std::uint64_t edge = n >> level;
    std::uint64_t all = 0;
    for (std::uint64_t j = y * edge; j < (y + 1) * edge; ++j)
      for (std::uint64_t i = x * edge; i < (x + 1) * edge; ++i) all += count[j * n + i];
    if (all > capacity_ && level < kDeepestHeap) {
      for (std::uint64_t k = 0; k < 4; ++k) divide(count, level + 1, 2 * x + k % 2, 2 * y + k / 2, plan);
      return;
    }
    if (all > 8 * capacity_)
      throw Error(ErrorCode::TooLarge, "has more points in one place than fit into memory", cloud_.info().name,
                  "give more --memory, or thin them first");
    if (all == 0) return;
    for (std::uint64_t j = y * edge; j < (y + 1) * edge; ++j)
      for (std::uint64_t i = x * edge; i < (x + 1) * edge; ++i)
        plan.heap[j * n + i] = static_cast<std::uint16_t>(plan.level.size());
    plan.level.push_back(static_cast<std::uint8_t>(level));
  }

  // Makes and codes the nodes of each heap, many at once, and places them in order.
  void write_heaps(std::size_t heaps, const std::function<std::vector<Node>(std::size_t)>& nodes_of) {
    parallel_ordered(
        heaps, run_.memory >= 8 * stride_ * capacity_ ? 2 : 1, run_,
        [&](std::size_t i) -> std::shared_ptr<void> {
          const std::vector<Node> nodes = nodes_of(i);
          auto coded = std::make_shared<std::vector<Coded>>(nodes.size());
          parallel_within(nodes.size(), [&](std::size_t k) {
            laz::ChunkCoder coder = coders_.take([&] { return laz::ChunkCoder(format_); });
            const std::size_t n = nodes[k].records.size() / stride_;
            (*coded)[k] = {nodes[k].key, coder.encode(nodes[k].records.data(), n), n};
            coders_.give(std::move(coder));
          });
          for (const Node& node : nodes) {
            const std::lock_guard lock(tally_mutex_);
            tally_.add(node.records.data(), node.records.size() / stride_, stride_, true);
          }
          return coded;
        },
        [&](std::size_t, const std::shared_ptr<void>& made) {
          for (const Coded& c : *static_cast<std::vector<Coded>*>(made.get())) {
            sink_.write_at(at_, c.bytes);
            entries_.push_back(
                {c.key, at_, static_cast<std::uint32_t>(c.bytes.size()), static_cast<std::uint32_t>(c.points)});
            at_ += c.bytes.size();
          }
        });
  }

  std::uint64_t finish() {
    std::vector<laz::ChunkSize> sizes;
    for (const Entry& e : entries_) sizes.push_back({e.points, e.bytes});
    const std::uint64_t table_at = at_;
    const Packed table = laz::encode_chunk_table(sizes, true);
    sink_.write_at(at_, table);
    at_ += table.size();
    const std::uint64_t long_record_at = at_;
    std::uint64_t root_bytes = 0;
    write_pages(root_bytes);
    tally_.tell(header_);
    Packed& info = header_.records.front().bytes;
    for (int a = 0; a < 3; ++a) store(info.data() + 8 * a, cube_.centre(a));
    store(info.data() + 24, cube_.half());
    store(info.data() + 32, 2 * cube_.half() / static_cast<double>(kBoxes));
    store(info.data() + 40, long_record_at + kLongHead);
    store(info.data() + 48, root_bytes);
    const bool timed = extent_.first_time <= extent_.last_time;
    store(info.data() + 56, timed ? extent_.first_time : 0.0);
    store(info.data() + 64, timed ? extent_.last_time : 0.0);
    Packed head = header_bytes(header_);
    store(head.data() + 235, long_record_at);
    store(head.data() + 243, std::uint32_t{1});
    sink_.write_at(0, head);
    std::uint8_t place[8];
    store(place, table_at);
    sink_.write_at(header_.points_at, place);
    return at_;
  }

  // The record of all pages: the root's first, with those of nodes some levels down behind it where there are many.
  void write_pages(std::uint64_t& root_bytes) {
    std::sort(entries_.begin(), entries_.end(), [](const Entry& a, const Entry& b) { return a.key < b.key; });
    std::vector<Entry> root;
    std::map<NodeKey, std::vector<Entry>> pages;
    for (const Entry& e : entries_) {
      if (entries_.size() > kNodesOfOnePage && e.key.level >= kLevelsOfPage)
        pages[e.key.above(kLevelsOfPage)].push_back(e);
      else
        root.push_back(e);
    }
    root_bytes = (root.size() + pages.size()) * kEntryBytes;
    std::uint64_t next = at_ + kLongHead + root_bytes;
    Packed all;
    for (const Entry& e : root) put(e, static_cast<std::int32_t>(e.points), all);
    for (const auto& [key, list] : pages) {
      const auto bytes = static_cast<std::uint32_t>(list.size() * kEntryBytes);
      put({key, next, bytes, 0}, -1, all);
      next += bytes;
    }
    for (const auto& [key, list] : pages)
      for (const Entry& e : list) put(e, static_cast<std::int32_t>(e.points), all);
    Packed head(kLongHead, 0);
    std::memcpy(head.data() + 2, "copc", 4);
    store(head.data() + 18, std::uint16_t{1000});
    store(head.data() + 20, static_cast<std::uint64_t>(all.size()));
    std::memcpy(head.data() + 28, "octree", 6);
    sink_.write_at(at_, head);
    sink_.write_at(at_ + kLongHead, all);
    at_ += kLongHead + all.size();
  }
  static void put(const Entry& e, std::int32_t points, Packed& out) {
    std::uint8_t b[kEntryBytes];
    const std::int32_t key[4] = {e.key.level, e.key.x, e.key.y, e.key.z};
    for (int i = 0; i < 4; ++i) store(b + 4 * i, key[i]);
    store(b + 16, e.at);
    store(b + 24, static_cast<std::int32_t>(e.bytes));
    store(b + 28, points);
    out.insert(out.end(), b, b + kEntryBytes);
  }

  const PointCloud& cloud_;
  Header header_;
  ByteSink& sink_;
  const RunOptions& run_;
  std::size_t stride_, capacity_;
  Extent extent_;
  Cube cube_;
  laz::LazFormat format_;
  Pool<laz::ChunkCoder> coders_;
  std::vector<Entry> entries_;
  std::mutex tally_mutex_;
  Tally tally_;
  std::uint64_t at_ = 0;
};

// COPC has the point formats 6 to 8 alone: the others become the one with room for their fields.
PointWriteOptions with_format(const PointInfo& info, PointWriteOptions options) {
  if (options.record_format >= 0 && (options.record_format < 6 || options.record_format > 8))
    throw Error(ErrorCode::BadArgument, fmt::format("COPC holds no points of format {}", options.record_format), {},
                "give --format 6, 7 or 8, or write .laz");
  if (options.record_format < 0)
    options.record_format = has(info.fields, PointFields::Infrared) ? 8 : has(info.fields, PointFields::Colour) ? 7 : 6;
  return options;
}

}  // namespace

void write_copc(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& given, PointWriteReport& report,
                std::size_t heap) {
  const PointInfo& info = cloud.info();
  if (info.crs.is_geographic())
    throw Error(ErrorCode::Refused, "is in degrees, and its heights are not: no cube is one that COPC could divide", {},
                "write .laz, or bring the points to a projection first");
  const PointWriteOptions options = with_format(info, given);
  CopcWriter writer(cloud, header_for(info, options, true, report.notes), sink, options.run, heap);
  report.bytes = writer.write();
  tell(writer.header(), report);
  report.format = fmt::format("COPC 1.0, point format {}, {} nodes", writer.header().point_format, writer.nodes());
}

}  // namespace katoptra::las
