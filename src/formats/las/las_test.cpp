#include <atomic>
#include <cstdlib>
#include <fmt/format.h>
#include <fstream>
#include <map>
#include <random>
#include <set>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/points/select.hpp"

#include "base/clones.hpp"
#include "fake_server.hpp"
#include "large_chunk.hpp"
#include "las_header.hpp"
#include "las_source.hpp"
#include "las_write.hpp"
#include "laz_chunk.hpp"
#include "laz_items.hpp"
#include "point_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
using laz::load;
using laz::store;
namespace fs = std::filesystem;

constexpr int kCompressed[] = {0, 1, 2, 3, 6, 7, 8};

PointCloud cloud_of(std::size_t n, int format, int extra, unsigned seed, bool channels = false) {
  PointBatch b = mixed_points(n, format, extra, seed, channels);
  if (extra == 0) b.extra.clear();
  return points_from_batch(std::move(b), point_info(format, extra));
}
std::vector<std::uint8_t> file_bytes(const fs::path& p) {
  std::ifstream f(p, std::ios::binary);
  return {std::istreambuf_iterator<char>(f), {}};
}
// What a point format can hold of a batch.
PointBatch as_held(const PointCloud& cloud, int format, int extra) {
  las::Header h;
  h.point_format = format;
  h.record_length = las::kRecordLength[format] + extra;
  h.lattice = *cloud.info().lattice;
  const PointBatch all = all_points(cloud);
  std::vector<std::uint8_t> records(all.size() * static_cast<std::size_t>(h.record_length));
  las::batch_to_records(h, all, records.data());
  PointBatch out;
  las::records_to_batch(h, records.data(), all.size(), PointFields::All, out);
  return out;
}

class LasFormats : public ::testing::TestWithParam<int> {};
INSTANTIATE_TEST_SUITE_P(All, LasFormats, ::testing::Range(0, 11));

TEST_P(LasFormats, ReadsBackWhatItWrote) {
  TemporaryFolder folder;
  for (int extra : {0, 5}) {
    const PointCloud cloud = cloud_of(1234, GetParam(), extra, 3);
    const auto report = write_points(cloud, folder / "a.las", {.overwrite = true});
    EXPECT_EQ(report.points, 1234u);
    const PointFile back = open_point_file(folder / "a.las");
    EXPECT_EQ(back.facts.record_format, GetParam());
    EXPECT_EQ(back.facts.declared, 1234u);
    EXPECT_TRUE(back.facts.problems.empty());
    EXPECT_TRUE(back.cloud.info().crs.same_place(cloud.info().crs));
    EXPECT_EQ(back.cloud.info().quantity.heights.epsg(), 3855);
    EXPECT_TRUE(back.cloud.info().quantity.unit_known);
    EXPECT_EQ(back.facts.date, "2022-03-14");
    expect_same_points(all_points(back.cloud), as_held(cloud, GetParam(), extra));
    // Written once more it is the same file, byte by byte: integers stayed integers.
    write_points(back.cloud, folder / "b.las", {.overwrite = true});
    EXPECT_EQ(file_bytes(folder / "a.las"), file_bytes(folder / "b.las"));
  }
}

class LazFormats : public ::testing::TestWithParam<int> {};
INSTANTIATE_TEST_SUITE_P(All, LazFormats, ::testing::ValuesIn(kCompressed));

TEST_P(LazFormats, DecodesToTheSameRecords) {
  TemporaryFolder folder;
  for (int extra : {0, 3})
    for (std::size_t n : {1u, 2u, 499u, 500u, 501u, 4321u}) {
      SCOPED_TRACE(fmt::format("{} points, {} extra bytes", n, extra));
      const PointCloud cloud = cloud_of(n, GetParam(), extra, static_cast<unsigned>(n), extra > 0);
      write_points(cloud, folder / "a.las", {.overwrite = true});
      write_points(cloud, folder / "a.laz", {.overwrite = true, .chunk = 500});
      const PointFile back = open_point_file(folder / "a.laz");
      EXPECT_EQ(back.cloud.parts(), (n + 499) / 500);
      expect_same_points(all_points(back.cloud), all_points(open_points(folder / "a.las")));
    }
}

// What is not asked for is not decoded in layers, and the rest is not touched by that.
TEST_P(LazFormats, FieldsComeAloneAsTheyComeTogether) {
  TemporaryFolder folder;
  const PointCloud cloud = cloud_of(3000, GetParam(), 2, 9, true);
  write_points(cloud, folder / "a.laz", {.chunk = 700});
  const PointCloud back = open_points(folder / "a.laz");
  const PointBatch all = all_points(back), classes = all_points(back, PointFields::Class),
                   times = all_points(back, PointFields::Time | PointFields::Flags),
                   colours = all_points(back, PointFields::Colour | PointFields::Extra);
  EXPECT_EQ(classes.classification, all.classification);
  EXPECT_EQ(classes.z, all.z);
  EXPECT_TRUE(classes.intensity.empty());
  EXPECT_EQ(times.time, all.time);
  EXPECT_EQ(times.flags, all.flags);
  EXPECT_EQ(colours.red, all.red);
  EXPECT_EQ(colours.blue, all.blue);
  EXPECT_EQ(colours.extra, all.extra);
}

// These very bytes were read by an independent decoder (tests/npm/laz_perf.mjs), which gave the records back.
TEST(Laz, WritesTheBytesThatAnotherReaderUnderstood) {
  const char* kept = std::getenv("KATOPTRA_KEEP_POINTS");
  TemporaryFolder folder;
  static const std::map<std::pair<int, int>, std::string> kUnderstood = {
#include "las_understood.inc"
  };
  for (int format : kCompressed)
    for (int extra : {0, 3}) {
      const PointCloud cloud = cloud_of(120000, format, extra, static_cast<unsigned>(10 * format + extra), true);
      const fs::path laz = (kept ? fs::path(kept) : folder.path()) / fmt::format("f{}_{}.laz", format, extra);
      write_points(cloud, laz, {.overwrite = true});
      if (kept) write_points(cloud, fs::path(laz).replace_extension(".las"), {.overwrite = true});
      // The points alone: what stands before them tells of this version.
      const auto all = file_bytes(laz);
      const auto from = load<std::uint32_t>(all.data() + 96) + 8u;
      Sha256 sum;
      sum.add({all.data() + from, all.size() - from});
      const std::string hex = sum.hex();
      if (kept) {
        fmt::print("{{{{{}, {}}}, \"{}\"}},\n", format, extra, hex);
        continue;
      }
      const auto known = kUnderstood.find({format, extra});
      ASSERT_NE(known, kUnderstood.end());
      EXPECT_EQ(hex, known->second) << "format " << format << ", " << extra << " extra bytes";
    }
}

TEST(Laz, DoesNotDependOnThreads) {
  TemporaryFolder folder;
  const PointCloud cloud = cloud_of(20000, 7, 2, 5);
  write_points(cloud, folder / "one.laz", {.chunk = 900, .run = {.threads = 1}});
  write_points(cloud, folder / "four.laz", {.chunk = 900, .run = {.threads = 4}});
  EXPECT_EQ(file_bytes(folder / "one.laz"), file_bytes(folder / "four.laz"));
}

// ---- files of others: no table, tables that lie, one stream, octrees

class LazWithoutTable : public ::testing::TestWithParam<int> {};
INSTANTIATE_TEST_SUITE_P(All, LazWithoutTable, ::testing::Values(1, 3, 6, 7));

TEST_P(LazWithoutTable, IsReadAllTheSame) {
  TemporaryFolder folder;
  const PointCloud cloud = cloud_of(5000, GetParam(), 0, 21);
  write_points(cloud, folder / "a.laz", {.chunk = 600});
  auto bytes = file_bytes(folder / "a.laz");
  const PointBatch whole = all_points(open_points(folder / "a.laz"));
  const auto at = load<std::uint32_t>(bytes.data() + 96);
  const auto table = load<std::uint64_t>(bytes.data() + at);
  // The writer could not go back: the place of the table stands at the end.
  auto late = bytes;
  store<std::int64_t>(late.data() + at, -1);
  late.resize(late.size() + 8);
  store<std::uint64_t>(late.data() + late.size() - 8, table);
  write_file(folder / "late.laz", late);
  expect_same_points(all_points(open_points(folder / "late.laz")), whole);
  EXPECT_TRUE(open_point_file(folder / "late.laz").facts.problems.empty());
  // It was cut off.
  bytes.resize(table);
  store<std::int64_t>(bytes.data() + at, -1);
  write_file(folder / "cut.laz", bytes);
  const PointFile cut = open_point_file(folder / "cut.laz");
  EXPECT_FALSE(cut.facts.problems.empty());
  expect_same_points(all_points(cut.cloud), whole);
}

TEST(Laz, ReadsPointsInOneStream) {
  TemporaryFolder folder;
  const PointCloud cloud = cloud_of(3000, 1, 0, 8);
  write_points(cloud, folder / "a.laz", {.chunk = 3000});
  auto bytes = file_bytes(folder / "a.laz");
  const auto at = load<std::uint32_t>(bytes.data() + 96);
  const auto table = load<std::uint64_t>(bytes.data() + at);
  las::Header h = las::read_header(*bytes_in_memory("a", bytes));
  // Packing 1: no place of a table in front, no table behind.
  std::size_t record = 227;
  while (std::memcmp(bytes.data() + record + 2, "laszip encoded", 14) != 0)
    record += 54u + load<std::uint16_t>(bytes.data() + record + 20);
  store<std::uint16_t>(bytes.data() + record + 54, 1);
  std::vector<std::uint8_t> stream(bytes.begin(), bytes.begin() + at);
  stream.insert(stream.end(), bytes.begin() + at + 8, bytes.begin() + static_cast<std::ptrdiff_t>(table));
  write_file(folder / "stream.laz", stream);
  expect_same_points(all_points(open_points(folder / "stream.laz")), all_points(open_points(folder / "a.laz")));
}

// A small file whose one stream is said to hold two gigabytes: it ends where its bytes do.
TEST(Laz, AStreamThatPromisesMoreThanItHoldsEndsEarly) {
  TemporaryFolder folder;
  write_points(cloud_of(300, 1, 100, 8), folder / "a.laz", {.chunk = 300});
  auto bytes = file_bytes(folder / "a.laz");
  std::size_t record = 227;
  while (std::memcmp(bytes.data() + record + 2, "laszip encoded", 14) != 0)
    record += 54u + load<std::uint16_t>(bytes.data() + record + 20);
  store<std::uint16_t>(bytes.data() + record + 54, 1);
  store<std::uint32_t>(bytes.data() + 107, 16'000'000);
  write_file(folder / "vast.laz", bytes);
  std::string text;
  EXPECT_EQ(error_of([&] { all_points(open_points(folder / "vast.laz")); }, &text), ErrorCode::BadFile);
  EXPECT_NE(text.find("ends early (after point "), text.npos) << text;
  EXPECT_LT(open_point_file(folder / "vast.laz", {.salvage = true}).facts.declared, 16'000'001u);
}

// Chunks that are too large to be held are those that are held, for every format, field and number of threads.
class LargeChunks : public ::testing::TestWithParam<int> {};
INSTANTIATE_TEST_SUITE_P(All, LargeChunks, ::testing::ValuesIn(kCompressed));

TEST_P(LargeChunks, GiveThePointsOfSmallOnes) {
  TemporaryFolder folder;
  for (const int extra : {0, 3}) {
    const PointCloud cloud = cloud_of(130'000, GetParam(), extra, 31, true);
    write_points(cloud, folder / "a.laz", {.overwrite = true, .chunk = 110'000});
    const auto file = open_file(folder / "a.laz");
    const PointBatch whole = all_points(las::open_las(file, {}).cloud);
    const PointCloud large = las::open_las(file, {}, {.points = 100'000}).cloud;
    ASSERT_EQ(large.parts(), 4u);  // 50,000, 50,000 and 10,000 of the first, and the second
    for (const int threads : {4, 1}) {
      PointBatch out;
      map_points(
          las::open_las(file, {}, {.points = 999}).cloud, PointFields::All, {.threads = threads},
          [](std::size_t, PointBatch& b) -> std::shared_ptr<void> { return std::make_shared<PointBatch>(b); },
          [&](std::shared_ptr<void> b) { out.append(*static_cast<PointBatch*>(b.get())); });
      expect_same_points(out, whole);
    }
    // The last part before the first.
    PointBatch last, first;
    large.read(2, PointFields::All, last);
    large.read(0, PointFields::All, first);
    EXPECT_EQ(last.size(), 10'000u);
    EXPECT_EQ(last.x[0], whole.x[100'000]);
    EXPECT_EQ(last.z[9999], whole.z[109'999]);
    EXPECT_EQ(first.x[0], whole.x[0]);
  }
}

std::string told_by(const std::function<void()>& body) {
  try {
    body();
  } catch (const Error& e) {
    return e.what();
  }
  return {};
}

// A chunk read in pieces of any length, its groups one after the other; gives what is wrong with it.
std::string streamed(const std::vector<std::uint8_t>& bytes, const laz::LazFormat& format, std::size_t n,
                     std::size_t groups, std::mt19937& random, std::vector<std::uint8_t>& out) {
  const auto length = static_cast<std::size_t>(format.record_length());
  std::vector<std::uint8_t> beside(n * length);
  out.resize(n * length);
  std::size_t good = 0;
  const std::string text = told_by([&] {
    laz::ChunkStream stream(
        format, n,
        [&](std::uint64_t at, std::span<std::uint8_t> to) {
          const std::size_t from = std::min<std::size_t>(bytes.size(), at),
                            some = std::min(bytes.size() - from, to.size());
          std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(from), some, to.begin());
          return some;
        },
        groups);
    std::vector<laz::PlaceStep> steps;
    while (good < n) {
      std::uint8_t *to = out.data() + good * length, *to_others = beside.data() + good * length;
      const std::size_t some = std::min<std::size_t>(1 + random() % 700, n - good);
      std::size_t came = 0;
      std::exception_ptr error = caught([&] { stream.next(0, some, to, steps, &came); });
      for (std::size_t g = 1; g < stream.groups(); ++g) {
        if (const auto e = caught([&] { stream.next(g, came, to_others, steps); })) error = e;
        stream.join(g, came, to_others, to);
      }
      good += came;
      throw_again(error);
    }
  });
  out.resize(good * length);
  return text;
}

// Whatever the bytes are, a stream of them says what the whole of them does.
TEST_P(LargeChunks, AreDamagedWhereHeldOnesAre) {
  std::mt19937 random(static_cast<unsigned>(GetParam()));
  const std::size_t n = 3000;
  las::Header h;
  h.point_format = GetParam();
  h.record_length = las::kRecordLength[GetParam()] + 2;
  h.lattice = *point_info(GetParam(), 2).lattice;
  const auto length = static_cast<std::size_t>(h.record_length);
  std::vector<std::uint8_t> records(n * length);
  las::batch_to_records(h, mixed_points(n, GetParam(), 2, 17, true), records.data());
  const laz::LazFormat format = laz::LazFormat::for_records(GetParam(), h.record_length);
  laz::ChunkCoder coder(format);
  const std::vector<std::uint8_t> chunk = coder.encode(records.data(), n);
  const std::size_t head = length + (format.layered() ? 4 * 14 : 0);  // more than there are layers
  int damaged = 0;
  for (int i = 0; i < 60; ++i) {
    std::vector<std::uint8_t> bytes = chunk;
    for (int k = i % 4 * 20; k > 0; --k)
      bytes[head + random() % (bytes.size() - head)] = static_cast<std::uint8_t>(random());
    // What is cut off is told at once where layers are held.
    if (i % 5 == 4 && !format.layered()) bytes.resize(head + random() % (bytes.size() - head));
    std::vector<std::uint8_t> held(records.size()), out;
    std::size_t good = 0;
    const std::string text = told_by([&] { coder.decode(bytes, n, held.data(), {}, &good); });
    held.resize(good * length);
    for (const std::size_t groups : {1, 2, 5}) {
      ASSERT_EQ(streamed(bytes, format, n, groups, random, out), text);
      ASSERT_EQ(out, held) << i << ' ' << groups;
    }
    damaged += !text.empty();
  }
  EXPECT_GT(damaged, 5);
}

// Noise of a few bytes in any layer, in the middle of it: the layer does not end with its points any more.
TEST(Laz, NoiseInALayerIsNotTakenForPoints) {
  TemporaryFolder folder;
  std::mt19937 random(5);
  write_points(cloud_of(20'000, 6, 0, 12), folder / "a.laz", {.overwrite = true, .chunk = 20'000});
  const auto bytes = file_bytes(folder / "a.laz");
  const auto at = load<std::uint32_t>(bytes.data() + 96);
  const std::size_t sizes = at + 8 + 30 + 4;
  std::size_t begin = sizes + 4 * 9;
  int tried = 0, found = 0;
  for (std::size_t layer = 0; layer < 9; ++layer) {
    const auto size = load<std::uint32_t>(bytes.data() + sizes + 4 * layer);
    for (int k = 0; k < 8 && size > 1000; ++k) {
      auto noisy = bytes;
      const std::size_t from = begin + size / 4 + random() % (size / 2);
      for (std::size_t i = from; i < from + 16; ++i) noisy[i] = static_cast<std::uint8_t>(random());
      const auto file = bytes_in_memory("a.laz", noisy);
      for (const las::HeldChunks held : {las::HeldChunks(), las::HeldChunks{.points = 1000}}) {
        ++tried;
        try {
          all_points(las::open_las(file, {}, held).cloud);
        } catch (const Error& e) {
          EXPECT_EQ(e.code(), ErrorCode::BadFile);
          ++found;
        }
      }
    }
    begin += size;
  }
  EXPECT_GE(tried, 60);
  EXPECT_GE(found, tried * 95 / 100) << found << " of " << tried;
}

TEST(LargeChunk, DamageIsAnErrorAndThePointsBeforeItAreSaved) {
  TemporaryFolder folder;
  std::mt19937 random(1);
  for (const int format : {1, 6}) {
    write_points(cloud_of(90'000, format, 0, 12), folder / "a.laz", {.overwrite = true, .chunk = 90'000});
    auto bytes = file_bytes(folder / "a.laz");
    const auto at = load<std::uint32_t>(bytes.data() + 96);
    const auto table = load<std::uint64_t>(bytes.data() + at);
    const PointBatch whole = all_points(open_points(folder / "a.laz"));
    // Noise from somewhere in what the chunk begins with: the layer of places, or all.
    for (std::uint64_t i = at + 60'000; i < table; ++i) bytes[i] = static_cast<std::uint8_t>(random());
    const auto file = bytes_in_memory("a.laz", bytes);
    std::vector<std::size_t> saved;
    for (const las::HeldChunks held : {las::HeldChunks(), las::HeldChunks{.points = 1000}}) {
      std::string text;
      EXPECT_EQ(error_of([&] { all_points(las::open_las(file, {}, held).cloud); }, &text), ErrorCode::BadFile);
      EXPECT_NE(text.find("ends early (points "), text.npos) << text;
      const PointBatch kept = all_points(las::open_las(file, {.salvage = true}, held).cloud);
      saved.push_back(kept.size());
      ASSERT_GT(kept.size(), 3000u);
      for (std::size_t i = 0; i < 3000; ++i) ASSERT_EQ(kept.x[i], whole.x[i]);
    }
    EXPECT_EQ(saved[0], saved[1]);
  }
}

// A file that cannot be read any more from some byte on.
class BrokenSource final : public ByteSource {
 public:
  BrokenSource(std::vector<std::uint8_t> bytes, std::uint64_t until) : bytes_(std::move(bytes)), until_(until) {}
  std::uint64_t size() const override { return bytes_.size(); }
  const std::string& name() const override { return name_; }
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    const std::size_t n = std::min<std::size_t>(out.size(), bytes_.size() - std::min(offset, size()));
    if (offset + n > until_) throw Error(ErrorCode::Io, "cannot be read", name_);
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), n, out.begin());
    return n;
  }

 private:
  std::vector<std::uint8_t> bytes_;
  std::uint64_t until_;
  std::string name_ = "broken.laz";
};

TEST(LargeChunk, ADiskThatFailsIsToldAsSuchToAllThatWait) {
  const laz::LazFormat format = laz::LazFormat::for_records(6, 30);
  const std::size_t n = 200'000;
  las::Header h;
  h.point_format = 6;
  h.record_length = 30;
  h.lattice = *point_info(6, 0).lattice;
  std::vector<std::uint8_t> records(n * 30);
  las::batch_to_records(h, mixed_points(n, 6, 0, 23, true), records.data());
  const std::vector<std::uint8_t> bytes = laz::ChunkCoder(format).encode(records.data(), n);
  std::mt19937 random(3);
  for (int i = 0; i < 8; ++i) {
    const std::size_t until = i == 0 ? 10 : bytes.size() / 3 + random() % (bytes.size() / 2);
    las::LargeChunk chunk(std::make_shared<BrokenSource>(bytes, until), format, 0, bytes.size(), n);
    std::atomic<int> failed{0}, wrong{0};
    parallel_for(50, {.threads = 4}, [&](std::size_t part) {
      std::vector<std::uint8_t> out(4000 * 30);
      std::size_t good = 0;
      try {
        chunk.read(part * 4000, 4000, out.data(), good);
      } catch (const Error& e) {
        failed += e.code() == ErrorCode::Io;
      }
      wrong += !std::equal(out.begin(), out.begin() + static_cast<std::ptrdiff_t>(good * 30),
                           records.begin() + static_cast<std::ptrdiff_t>(part * 4000 * 30));
    });
    EXPECT_GT(failed, 0);
    EXPECT_EQ(wrong, 0);
  }
}

TEST(LargeChunk, CannotHoldMoreThanItsBytesCanSay) {
  TemporaryFolder folder;
  write_points(cloud_of(300, 6, 0, 8), folder / "a.laz", {.chunk = 300});
  auto bytes = file_bytes(folder / "a.laz");
  std::size_t record = load<std::uint16_t>(bytes.data() + 94);
  while (std::memcmp(bytes.data() + record + 2, "laszip encoded", 14) != 0)
    record += 54u + load<std::uint16_t>(bytes.data() + record + 20);
  store<std::uint32_t>(bytes.data() + record + 54 + 12, 4'000'000'000u);
  store<std::uint64_t>(bytes.data() + 247, 4'000'000'000u);
  std::string text;
  EXPECT_EQ(error_of([&] { all_points(las::open_las(bytes_in_memory("a.laz", bytes), {}).cloud); }, &text),
            ErrorCode::BadFile);
  EXPECT_NE(text.find("cannot hold 4000000000 points"), text.npos) << text;
  // The same without a table, told by the chunk itself.
  const auto at = load<std::uint32_t>(bytes.data() + 96);
  store<std::uint32_t>(bytes.data() + at + 8 + 30, 4'000'000'000u);
  store<std::int64_t>(bytes.data() + at, -1);
  EXPECT_EQ(error_of([&] { las::open_las(bytes_in_memory("a.laz", bytes), {}); }, &text), ErrorCode::BadFile);
  EXPECT_NE(text.find("0 can be found"), text.npos) << text;
}

TEST(Laz, AVersionFourOfColoursGoesOnFromItsOwnChannel) {
  laz::LazFormat f = laz::LazFormat::for_records(7, 36);
  f.items[1].version = 4;
  const PointBatch b = mixed_points(2000, 7, 0, 4, true);
  las::Header h;
  h.point_format = 7;
  h.record_length = 36;
  h.lattice = *point_info(7).lattice;
  std::vector<std::uint8_t> records(2000 * 36), back(2000 * 36);
  las::batch_to_records(h, b, records.data());
  laz::ChunkCoder four(f), three(laz::LazFormat::for_records(7, 36));
  const auto chunk = four.encode(records.data(), 2000);
  EXPECT_EQ(four.decode(chunk, 2000, back.data()), chunk.size());
  EXPECT_EQ(back, records);
  EXPECT_NE(chunk, three.encode(records.data(), 2000));
}

// A COPC file by hand: a root and four children, the children in a page of their own.
struct Octree {
  std::vector<std::uint8_t> bytes;
  PointBatch points;
  std::size_t child_page = 0;
};
// `times`: that many times 1300 points.
Octree make_octree(std::size_t times = 1) {
  Octree o;
  las::Header h;
  h.point_format = 6;
  h.record_length = 30;
  h.compressed = true;
  h.wkt = true;
  h.lattice = *point_info(6).lattice;
  const std::string wkt = Crs::parse("EPSG:32725").file_wkt();
  std::vector<std::uint8_t> info(160, 0);
  const double centre[3] = {677256, 5842256, 100}, half = 256;
  for (int i = 0; i < 3; ++i) store(info.data() + 8 * i, centre[i]);
  store(info.data() + 24, half);
  store(info.data() + 32, 4.0);
  laz::LazFormat f = laz::LazFormat::for_records(6, 30);
  f.chunk_size = 0xFFFFFFFF;
  h.records = {
      {"copc", 1, info}, {"LASF_Projection", 2112, {wkt.begin(), wkt.end()}}, {"laszip encoded", 22204, f.record()}};
  h.records[1].bytes.push_back(0);
  std::vector<laz::ChunkSize> sizes;
  std::vector<std::uint8_t> chunks, root(5 * 32, 0), page(4 * 32, 0);
  const std::size_t begin = las::header_bytes(h).size() + 8;
  laz::ChunkCoder coder(f);
  auto node = [&](std::uint8_t* entry, int level, int x, int y, std::size_t n, unsigned seed) {
    PointBatch b = mixed_points(n, 6, 0, seed);
    b.extra.clear();
    b.waveform.clear();
    Dice r(seed + 100);
    const double edge = 512.0 / (1 << level);
    for (std::size_t i = 0; i < n; ++i) {
      b.x[i] = 677000 + x * edge + r(static_cast<std::uint32_t>(edge * 1000)) * 0.001;
      b.y[i] = 5842000 + y * edge + r(static_cast<std::uint32_t>(edge * 1000)) * 0.001;
      b.z[i] = 50 + r(100);
    }
    std::vector<std::uint8_t> records(n * 30);
    las::batch_to_records(h, b, records.data());
    const auto chunk = coder.encode(records.data(), n);
    for (int k = 0; k < 4; ++k) store<std::int32_t>(entry + 4 * k, k == 0 ? level : k == 1 ? x : k == 2 ? y : 0);
    store<std::uint64_t>(entry + 16, begin + chunks.size());
    store<std::int32_t>(entry + 24, static_cast<std::int32_t>(chunk.size()));
    store<std::int32_t>(entry + 28, static_cast<std::int32_t>(n));
    chunks.insert(chunks.end(), chunk.begin(), chunk.end());
    sizes.push_back({static_cast<std::uint32_t>(n), static_cast<std::uint32_t>(chunk.size())});
    PointBatch held;
    las::records_to_batch(h, records.data(), n, PointFields::All, held);
    o.points.append(held);
  };
  node(root.data(), 0, 0, 0, 400 * times, 1);
  node(page.data(), 1, 0, 0, 300 * times, 2);
  node(page.data() + 32, 1, 1, 0, 250 * times, 3);
  node(page.data() + 64, 1, 0, 1, 200 * times, 4);
  node(page.data() + 96, 1, 1, 1, 150 * times, 5);
  const auto table = laz::encode_chunk_table(sizes, true);
  const std::size_t table_at = begin + chunks.size(), evlr = table_at + table.size();
  o.child_page = evlr + 60 + 160;
  // The root page: the root, three children, and an entry that leads to the page of the fourth.
  std::vector<std::uint8_t> pages(root.begin(), root.begin() + 32);
  pages.insert(pages.end(), page.begin(), page.end());
  store<std::uint64_t>(pages.data() + 128 + 16, o.child_page);
  store<std::int32_t>(pages.data() + 128 + 24, 32);
  store<std::int32_t>(pages.data() + 128 + 28, -1);
  pages.insert(pages.end(), page.begin() + 96, page.end());
  store<std::uint64_t>(h.records[0].bytes.data() + 40, evlr + 60);
  store<std::uint64_t>(h.records[0].bytes.data() + 48, 160);
  h.points = 1300 * times;
  h.lowest[0] = 677000, h.lowest[1] = 5842000, h.highest[0] = 677512, h.highest[1] = 5842512, h.highest[2] = 150;
  o.bytes = las::header_bytes(h);
  store<std::uint64_t>(o.bytes.data() + 235, evlr);
  store<std::uint32_t>(o.bytes.data() + 243, 1);
  o.bytes.resize(begin);
  store<std::uint64_t>(o.bytes.data() + begin - 8, table_at);
  o.bytes.insert(o.bytes.end(), chunks.begin(), chunks.end());
  o.bytes.insert(o.bytes.end(), table.begin(), table.end());
  std::vector<std::uint8_t> head(60, 0);
  std::memcpy(head.data() + 2, "copc", 4);
  store<std::uint16_t>(head.data() + 18, 1000);
  store<std::uint64_t>(head.data() + 20, pages.size());
  o.bytes.insert(o.bytes.end(), head.begin(), head.end());
  o.bytes.insert(o.bytes.end(), pages.begin(), pages.end());
  return o;
}

TEST(Copc, AWindowIsReadByTheOctree) {
  TemporaryFolder folder;
  const Octree o = make_octree();
  write_file(folder / "a.copc.laz", o.bytes);
  const PointFile whole = open_point_file(folder / "a.copc.laz");
  EXPECT_EQ(whole.facts.format, "COPC 1.4");
  EXPECT_EQ(whole.cloud.info().count, 1300u);
  expect_same_points(all_points(whole.cloud), o.points);
  const Crs utm = Crs::parse("EPSG:32725");
  const Area corner = Area::box({677300, 5842300, 677500, 5842500}, utm);
  const PointFile part = open_point_file(folder / "a.copc.laz", {.open = {}, .area = &corner, .spacing = {}});
  EXPECT_EQ(part.cloud.parts(), 2u);  // the root, and one of its four children
  expect_same_points(all_points(select(part.cloud, {.area = &corner})),
                     all_points(select(whole.cloud, {.area = &corner})));
  const PointFile coarse = open_point_file(folder / "a.copc.laz", {.open = {}, .area = nullptr, .spacing = 4_m});
  EXPECT_EQ(coarse.cloud.parts(), 1u);
  EXPECT_EQ(open_point_file(folder / "a.copc.laz", {.open = {}, .area = nullptr, .spacing = 2_m}).cloud.parts(), 5u);
}

TEST(Copc, OfAFileOnTheWebOnlyTheNodesOfTheAreaTravel) {
  TemporaryFolder folder;
  const Octree o = make_octree(120);
  write_file(folder / "a.copc.laz", o.bytes);
  FakeServer web;
  const std::string url = "https://points.example/a.copc.laz";
  web.put(url, {o.bytes.begin(), o.bytes.end()});
  const Area corner = Area::box({677300, 5842300, 677500, 5842500}, Crs::parse("EPSG:32725"));
  const PointFile part = open_point_file(url, {.open = {}, .area = &corner, .spacing = {}});
  EXPECT_EQ(part.cloud.parts(), 2u);
  expect_same_points(all_points(select(part.cloud, {.area = &corner})),
                     all_points(select(open_points(folder / "a.copc.laz"), {.area = &corner})));
  // The root and one child of four hold 550 of 1300 points.
  EXPECT_LT(static_cast<double>(web.sent), 0.55 * static_cast<double>(o.bytes.size()));
  EXPECT_GT(o.bytes.size(), 1u << 20);
  // Without an area all of it is read, and says which part lies where.
  const PointCloud whole = open_points(url);
  for (std::size_t i = 0; i < whole.parts(); ++i) EXPECT_FALSE(whole.part(i).box.empty());
  expect_same_points(all_points(whole), o.points);
}

TEST(Copc, PointsThatTheOctreeForgetsAreReadByTheChunks) {
  TemporaryFolder folder;
  Octree o = make_octree();
  store<std::int32_t>(o.bytes.data() + o.child_page + 28, 0);
  write_file(folder / "a.laz", o.bytes);
  const PointFile file = open_point_file(folder / "a.laz");
  EXPECT_EQ(all_points(file.cloud).size(), 1300u);
  ASSERT_EQ(file.facts.problems.size(), 1u);
  EXPECT_EQ(file.facts.problems[0], "its octree leads to 1150 of its 1300 points");
}

TEST(Copc, PagesThatLeadInCirclesOrBeyondAreRefused) {
  TemporaryFolder folder;
  Octree o = make_octree();
  const std::size_t entry = o.child_page - 32;
  auto open = [&](const std::vector<std::uint8_t>& bytes) {
    write_file(folder / "a.laz", bytes, {.overwrite = true});
    return error_of([&] { open_point_file(folder / "a.laz", {.open = {}, .area = nullptr, .spacing = 1_m}); });
  };
  auto circle = o.bytes;
  store<std::uint64_t>(circle.data() + entry + 16, entry - 128);
  EXPECT_EQ(open(circle), ErrorCode::BadFile);
  auto beyond = o.bytes;
  store<std::uint64_t>(beyond.data() + entry + 16, beyond.size() - 8);
  EXPECT_EQ(open(beyond), ErrorCode::BadFile);
  auto node = o.bytes;
  store<std::int32_t>(node.data() + o.child_page + 24, 1 << 30);
  EXPECT_EQ(open(node), ErrorCode::BadFile);
}

// ---- damage

TEST(Las, DamageIsAnErrorUnlessThePointsBeforeItAreAskedFor) {
  TemporaryFolder folder;
  for (const char* name : {"a.las", "a.laz"})
    for (int format : {3, 6}) {
      const PointCloud cloud = cloud_of(2500, format, 0, 2);
      write_points(cloud, folder / name, {.overwrite = true, .chunk = 400});
      const auto bytes = file_bytes(folder / name);
      const PointBatch whole = all_points(open_points(folder / name));
      for (double share : {0.2, 0.5, 0.8, 0.97}) {
        SCOPED_TRACE(fmt::format("{} format {} cut at {}", name, format, share));
        auto cut = bytes;
        cut.resize(static_cast<std::size_t>(static_cast<double>(bytes.size()) * share));
        write_file(folder / "cut.laz", cut, {.overwrite = true});
        std::string text;
        EXPECT_EQ(error_of([&] { all_points(open_points(folder / "cut.laz")); }, &text), ErrorCode::BadFile);
        EXPECT_NE(text.find("cut.laz"), text.npos);
        const PointFile saved =
            open_point_file(folder / "cut.laz", {.open = {}, .area = nullptr, .spacing = {}, .salvage = true});
        const PointBatch some = all_points(saved.cloud);
        ASSERT_LT(some.size(), whole.size());
        // A layered chunk is whole or nothing.
        if (share > 0.4) {
          EXPECT_GT(some.size(), 0u);
        }
        for (std::size_t i = 0; i < some.size(); ++i) ASSERT_EQ(some.z[i], whole.z[i]);
        EXPECT_FALSE(saved.facts.problems.empty());
      }
    }
}

TEST(Las, FlippedBytesNeverCrash) {
  TemporaryFolder folder;
  const Octree octree = make_octree();
  for (int format : {-1, 0, 3, 6, 8}) {
    std::vector<std::uint8_t> bytes = octree.bytes;
    if (format >= 0) {
      write_points(cloud_of(300, format, 2, 6, true), folder / "a.laz", {.overwrite = true, .chunk = 100});
      bytes = file_bytes(folder / "a.laz");
    }
    for (unsigned seed = 1; seed <= 100; ++seed) {
      SCOPED_TRACE(fmt::format("format {} seed {}", format, seed));
      Dice r(seed);
      auto bad = bytes;
      for (std::uint32_t k = 0; k < 1 + r(4); ++k)
        bad[r(static_cast<std::uint32_t>(seed % 2 ? std::min<std::size_t>(bad.size(), 600) : bad.size()))] =
            static_cast<std::uint8_t>(r(256));
      write_file(folder / "bad.laz", bad, {.overwrite = true});
      try {
        const PointFile f = open_point_file(
            folder / "bad.laz",
            {.open = {}, .area = nullptr, .spacing = format < 0 ? 1_m : Length(), .salvage = seed % 3 == 0});
        for (std::size_t i = 0; i < f.cloud.parts() && i < 50; ++i) f.cloud.read(i);
      } catch (const Error&) {
      }
    }
  }
}

TEST(Las, HeadersThatLieAreToldApart) {
  TemporaryFolder folder;
  write_points(cloud_of(1000, 6, 0, 1), folder / "a.las");
  auto bytes = file_bytes(folder / "a.las");
  auto more = bytes;
  store<std::uint64_t>(more.data() + 247, 5000);
  write_file(folder / "more.las", more);
  std::string text;
  EXPECT_EQ(error_of([&] { open_points(folder / "more.las"); }, &text), ErrorCode::BadFile);
  EXPECT_NE(text.find("1000 of the 5000"), text.npos) << text;
  auto scale = bytes;
  store<double>(scale.data() + 131, 0);
  write_file(folder / "scale.las", scale);
  EXPECT_EQ(error_of([&] { open_points(folder / "scale.las"); }), ErrorCode::BadFile);
  auto version = bytes;
  version[25] = 9;
  write_file(folder / "version.las", version);
  EXPECT_EQ(error_of([&] { open_points(folder / "version.las"); }), ErrorCode::Unsupported);
}

TEST(Las, CoordinatesBeyondTheIntegersAreRefusedAndNothingIsLeft) {
  TemporaryFolder folder;
  PointBatch b;
  b.x = {0, 1e9};
  b.y = {0, 0};
  b.z = {0, 0};
  PointInfo info = point_info(6);
  EXPECT_EQ(error_of([&] { write_points(points_from_batch(b, info), folder / "a.laz"); }), ErrorCode::TooLarge);
  EXPECT_EQ(folder.files(), 0u);
  EXPECT_EQ(error_of([&] { write_points(points_from_batch(b, point_info(4)), folder / "a.laz"); }),
            ErrorCode::Unsupported);
  EXPECT_EQ(error_of([&] { write_points(points_from_batch(b, info), folder / "a.ply"); }), ErrorCode::Unsupported);
}

TEST(Las, HeightsAboveTheEllipsoidAndInFeetSurvive) {
  TemporaryFolder folder;
  PointBatch b = mixed_points(10, 6, 0, 1);
  for (int format : {1, 6})
    for (const char* reference : {"ellipsoid", "EGM96", "unknown"})
      for (LengthUnit unit : {LengthUnit::Metre, LengthUnit::UsFoot}) {
        PointInfo info = point_info(format);
        info.quantity.heights = HeightReference::parse(reference);
        info.quantity.unit = unit;
        PointBatch copy = b;
        copy.extra.clear();
        write_points(points_from_batch(copy, info), folder / "a.laz", {.overwrite = true});
        const PointInfo back = open_points(folder / "a.laz").info();
        EXPECT_EQ(back.quantity.heights, info.quantity.heights) << reference;
        EXPECT_EQ(back.quantity.unit, unit) << reference;
        EXPECT_TRUE(back.quantity.unit_known);
      }
}

// ---- text

TEST(TextPoints, NamedColumnsGoBothWays) {
  TemporaryFolder folder;
  const PointCloud cloud = cloud_of(700, 7, 0, 12);
  write_points(cloud, folder / "a.csv");
  const PointFile back = open_point_file(folder / "a.csv");
  EXPECT_TRUE(back.cloud.info().crs.same_place(cloud.info().crs));
  EXPECT_EQ(back.cloud.info().quantity.heights.epsg(), 3855);
  const PointBatch a = all_points(cloud), b = all_points(back.cloud);
  ASSERT_EQ(a.size(), b.size());
  for (std::size_t i = 0; i < a.size(); ++i) {
    ASSERT_NEAR(a.x[i], b.x[i], 1e-9);
    ASSERT_NEAR(a.z[i], b.z[i], 1e-9);
  }
  EXPECT_EQ(a.classification, b.classification);
  EXPECT_EQ(a.intensity, b.intensity);
  EXPECT_EQ(a.time, b.time);
  EXPECT_EQ(a.blue, b.blue);
  EXPECT_EQ(a.angle, b.angle);
  // Back to integers: the same ones.
  PointInfo info = cloud.info();
  write_points(relabelled(back.cloud,
                          [&](PointInfo& i) {
                            i.lattice = info.lattice;
                            i.record_format = 7;
                          }),
               folder / "b.las");
  write_points(cloud, folder / "a.las");
  EXPECT_EQ(all_points(open_points(folder / "b.las")).x, all_points(open_points(folder / "a.las")).x);
}

TEST(TextPoints, DepthsBecomeHeightsAndColumnsAreChosen) {
  TemporaryFolder folder;
  write_text_file(folder / "s.txt",
                  "id;north;east;depth;class\n1;5842000,5;677000,25;3,5;40\n2;5842001;677002;-1;41\n");
  const PointCloud c = open_points(folder / "s.txt");
  const PointBatch b = all_points(c);
  EXPECT_EQ(b.x, (std::vector<double>{677000.25, 677002}));
  EXPECT_EQ(b.y, (std::vector<double>{5842000.5, 5842001}));
  EXPECT_EQ(b.z, (std::vector<double>{-3.5, 1}));
  EXPECT_EQ(b.classification, (std::vector<std::uint8_t>{40, 41}));
  const auto report = write_points(c, folder / "t.txt", {.delimiter = ';', .columns = "class,z"});
  EXPECT_EQ(read_text_file(folder / "t.txt"), "class;z\n40;-3.5\n41;1\n");
  EXPECT_EQ(report.points, 2u);
  EXPECT_EQ(error_of([&] { write_points(c, folder / "u.txt", {.columns = "x,colour"}); }), ErrorCode::BadArgument);
}

// ---- COPC, written

struct ReadNode {
  std::int32_t key[4] = {};
  std::uint64_t at = 0;
  std::int32_t bytes = 0, points = 0;
};
// Nodes by the published layout of the pages.
std::vector<ReadNode> nodes_of(const std::vector<std::uint8_t>& file) {
  std::vector<ReadNode> out;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> pages{
      {laz::load<std::uint64_t>(file.data() + 429 + 40), laz::load<std::uint64_t>(file.data() + 429 + 48)}};
  while (!pages.empty()) {
    const auto [at, bytes] = pages.back();
    pages.pop_back();
    for (std::uint64_t i = 0; i < bytes; i += 32) {
      const std::uint8_t* e = file.data() + at + i;
      ReadNode n;
      for (int k = 0; k < 4; ++k) n.key[k] = laz::load<std::int32_t>(e + 4 * k);
      n.at = laz::load<std::uint64_t>(e + 16);
      n.bytes = laz::load<std::int32_t>(e + 24);
      n.points = laz::load<std::int32_t>(e + 28);
      if (n.points < 0)
        pages.emplace_back(n.at, static_cast<std::uint64_t>(n.bytes));
      else
        out.push_back(n);
    }
  }
  return out;
}

std::vector<std::uint8_t> copc_bytes(const PointCloud& cloud, std::size_t heap, int threads = 0,
                                     PointWriteReport* told = nullptr) {
  TemporaryFolder folder;
  const auto sink = create_file(folder / "a.copc.laz");
  PointWriteReport report;
  las::write_copc(cloud, *sink, {.run = {.threads = threads}}, report, heap);
  sink->commit();
  if (told) *told = report;
  const std::string text = read_text_file(folder / "a.copc.laz");
  return {text.begin(), text.end()};
}

// The records of all points, sorted: the tree changes nothing but their order.
std::vector<std::string> sorted_records(const PointBatch& b, const PointInfo& info) {
  las::Header h;
  h.point_format = 7;
  h.record_length = las::kRecordLength[7] + info.extra_bytes;
  h.lattice = *info.lattice;
  std::vector<std::uint8_t> records(b.size() * static_cast<std::size_t>(h.record_length));
  las::batch_to_records(h, b, records.data());
  std::vector<std::string> out;
  for (std::size_t i = 0; i < b.size(); ++i) {
    const char* r = reinterpret_cast<const char*>(records.data()) + i * static_cast<std::size_t>(h.record_length);
    out.emplace_back(r, r + h.record_length);
  }
  std::sort(out.begin(), out.end());
  return out;
}

PointBatch hilly_points(std::size_t n, unsigned seed) {
  PointBatch b = mixed_points(n, 7, 3, seed);
  b.waveform.clear();
  Dice r(seed + 5);
  for (std::size_t i = 0; i < n; ++i) {
    // Most in one corner, so that the tree is deeper there.
    const std::uint32_t wide = i % 3 == 0 ? 400'000 : 60'000;
    const double x = 0.001 * r(wide), y = 0.001 * r(wide);
    b.x[i] = 677000 + x;
    b.y[i] = 5842000 + y;
    b.z[i] = std::round((100 + 10 * std::sin(x / 20) + 0.001 * r(3000)) * 1000) / 1000;
  }
  return b;
}

TEST(Copc, WritesEveryPointOnceWhereItsNodeSays) {
  const std::size_t n = 180'000;
  PointInfo info = point_info(7, 3);
  const PointBatch points = hilly_points(n, 3);
  const PointCloud cloud = points_from_batch(points, info);
  const auto records = sorted_records(points, info);
  for (const std::size_t heap : {std::size_t{1'000'000}, std::size_t{30'000}}) {
    SCOPED_TRACE(heap);
    PointWriteReport report;
    const std::vector<std::uint8_t> file = copc_bytes(cloud, heap, 0, &report);
    EXPECT_EQ(report.points, n);
    ASSERT_EQ(std::memcmp(file.data() + 377, "copc", 4), 0) << "the first record is its own";
    const std::uint8_t* p = file.data() + 429;
    const double half = laz::load<double>(p + 24);
    EXPECT_DOUBLE_EQ(laz::load<double>(p + 32), 2 * half / 128);
    TemporaryFolder folder;
    write_file(folder / "a.copc.laz", file);
    const PointFile back = open_point_file(folder / "a.copc.laz");
    EXPECT_EQ(back.facts.format, "COPC 1.4");
    EXPECT_TRUE(back.facts.problems.empty());
    EXPECT_EQ(sorted_records(all_points(back.cloud), info), records);
    // The chunks one after the other, without the tree, are the same points.
    const std::vector<ReadNode> nodes = nodes_of(file);
    std::uint64_t all = 0;
    std::set<std::array<std::int32_t, 4>> keys;
    for (const ReadNode& node : nodes) {
      all += static_cast<std::uint64_t>(node.points);
      EXPECT_TRUE(keys.insert({node.key[0], node.key[1], node.key[2], node.key[3]}).second);
    }
    EXPECT_EQ(all, n);
    for (const auto& k : keys)
      if (k[0] > 0) {
        EXPECT_TRUE(keys.contains({k[0] - 1, k[1] / 2, k[2] / 2, k[3] / 2})) << "every node hangs on another";
      }
    // Each node by itself: inside its cube, and where it has children no two points in one of its 128^3 boxes.
    std::size_t part = 0;
    std::vector<ReadNode> by_place = nodes;
    std::sort(by_place.begin(), by_place.end(), [](const ReadNode& a, const ReadNode& b) { return a.at < b.at; });
    for (const ReadNode& node : by_place) {
      const PointBatch b = back.cloud.read(part++);
      ASSERT_EQ(b.size(), static_cast<std::size_t>(node.points));
      const double edge = 2 * half / (1 << node.key[0]);
      bool parted = false;
      for (int child = 0; child < 8; ++child)
        parted = parted || keys.contains({node.key[0] + 1, 2 * node.key[1] + (child & 1),
                                          2 * node.key[2] + (child >> 1 & 1), 2 * node.key[3] + (child >> 2)});
      std::set<std::array<std::int64_t, 3>> boxes;
      for (std::size_t i = 0; i < b.size(); ++i) {
        const double v[3] = {b.x[i], b.y[i], b.z[i]};
        std::array<std::int64_t, 3> box{};
        for (int a = 0; a < 3; ++a) {
          const double from = laz::load<double>(p + 8 * a) - half + node.key[a + 1] * edge;
          ASSERT_GE(v[a], from - 1e-6);
          ASSERT_LE(v[a], from + edge + 1e-6);
          box[static_cast<std::size_t>(a)] = static_cast<std::int64_t>((v[a] - from) / edge * 128 + 1e-9);
        }
        boxes.insert(box);
      }
      if (parted) {
        EXPECT_GE(boxes.size() + 3, b.size());
      }
    }
    // A coarse look is a small part of it, spread over all of it.
    const PointFile coarse = open_point_file(folder / "a.copc.laz", {.open = {}, .area = nullptr, .spacing = 4_m});
    EXPECT_LT(coarse.cloud.info().count, n / 3);
    EXPECT_GT(coarse.cloud.info().count, 1000u);
    EXPECT_EQ(copc_bytes(cloud, heap, 1), file) << "the same bytes on one thread";
  }
}

TEST(Copc, WritesWhatIsOddToo) {
  PointInfo info = point_info(6);
  // All in one place, in more than one node may hold; a single one; none.
  PointBatch same = mixed_points(60'000, 6, 0, 5);
  same.extra.clear();
  same.waveform.clear();
  std::fill(same.x.begin(), same.x.end(), 677000.5);
  std::fill(same.y.begin(), same.y.end(), 5842000.5);
  std::fill(same.z.begin(), same.z.end(), 7.0);
  TemporaryFolder folder;
  for (const std::size_t n : {std::size_t{60'000}, std::size_t{1}, std::size_t{0}}) {
    PointBatch some = same;
    std::vector<std::uint8_t> marks(same.size(), 0);
    std::fill_n(marks.begin(), n, std::uint8_t{1});
    some.keep(marks);
    write_points(points_from_batch(some, info), folder / "a.copc.laz", {.overwrite = true});
    const PointFile back = open_point_file(folder / "a.copc.laz");
    EXPECT_EQ(back.cloud.info().count, n);
    EXPECT_EQ(all_points(back.cloud).size(), n);
  }
  // Old formats become those that COPC has; others are refused.
  const PointCloud old = cloud_of(500, 3, 0, 9);
  const PointWriteReport r = write_points(old, folder / "b.copc.laz");
  EXPECT_NE(r.format.find("point format 7"), std::string::npos) << r.format;
  EXPECT_EQ(error_of([&] { write_points(old, folder / "c.copc.laz", {.record_format = 3}); }), ErrorCode::BadArgument);
  PointInfo degrees = info;
  degrees.crs = Crs::parse("EPSG:4326");
  EXPECT_EQ(error_of([&] { write_points(points_from_batch(same, degrees), folder / "d.copc.laz"); }),
            ErrorCode::Refused);
  EXPECT_FALSE(std::filesystem::exists(folder / "d.copc.laz"));
}

}  // namespace
}  // namespace katoptra
