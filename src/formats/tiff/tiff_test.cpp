// GeoTIFF both ways: our writer is read back, files of libtiff's making are read, damaged ones are refused.
#include <fstream>
#include <map>
#include <random>
#include <tiffio.h>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/grid/cache.hpp"

#include "testing.hpp"
#include "tiff_codec.hpp"

namespace katoptra {
namespace {

using namespace testing;

std::vector<SampleType> types() {
  return {SampleType::UInt8, SampleType::Int8,   SampleType::UInt16, SampleType::Int16,   SampleType::UInt32,
          SampleType::Int32, SampleType::UInt64, SampleType::Int64,  SampleType::Float32, SampleType::Float64};
}

// Values that every type holds, with some voids.
Grid numbers(const Frame& f, SampleType type, unsigned seed) {
  std::mt19937 random(seed);
  std::vector<float> v(static_cast<std::size_t>(f.cols() * f.rows()));
  for (float& x : v) {
    x = static_cast<float>(random() % 100);
    if (!is_integer(type)) x += 0.25f;
    if (random() % 19 == 0) x = kVoid;
  }
  return grid_from_values(f, std::move(v), metres_above_egm2008(), type);
}

void expect_equal(const Grid& a, const Grid& b) {
  const auto va = all_values(a), vb = all_values(b);
  ASSERT_EQ(va.size(), vb.size());
  for (std::size_t i = 0; i < va.size(); ++i)
    ASSERT_TRUE(same_bits(va[i], vb[i])) << "cell " << i << ": " << va[i] << " against " << vb[i];
}

TEST(TiffWrite, EveryTypeAndCodecComesBack) {
  TemporaryFolder folder;
  for (SampleType type : types())
    for (Codec codec : {Codec::Deflate, Codec::Zstd, Codec::None}) {
      SCOPED_TRACE(std::string(name_of(type)) + " codec " + std::to_string(static_cast<int>(codec)));
      const Grid g = numbers(utm_frame(75, 53, 0.5), type, 7);
      const WriteReport r = write_grid(g, folder / "a.tif", {.overwrite = true, .codec = codec, .tile = 32, .run = {}});
      const GridFile back = open_grid_file(folder / "a.tif");
      EXPECT_EQ(back.grid.info().type, type);
      EXPECT_EQ(back.grid.frame(), g.frame());
      EXPECT_EQ(back.grid.quantity().heights.name(), "EGM2008 height");
      EXPECT_TRUE(back.grid.quantity().unit_known);
      EXPECT_EQ(r.bytes, std::filesystem::file_size(folder / "a.tif"));
      expect_equal(g, back.grid);
    }
}

TEST(TiffWrite, WhatTheSurfaceIsOfComesBack) {
  TemporaryFolder folder;
  for (SurfaceKind kind :
       {SurfaceKind::Unknown, SurfaceKind::Ground, SurfaceKind::FirstReturn, SurfaceKind::SeaFloor}) {
    Quantity q = metres_above_egm2008();
    q.surface = kind;
    write_grid(grid_from_values(utm_frame(3, 2, 1), std::vector<float>(6, 1.f), q), folder / "a.tif",
               {.overwrite = true});
    EXPECT_EQ(open_grid(folder / "a.tif").quantity().surface, kind);
  }
}

TEST(TiffWrite, SameBytesForEveryThreadCountAndBudget) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(1100, 700), 3);
  write_grid(g, folder / "one.tif", {.lineage = true, .run = {.threads = 1}});
  write_grid(g, folder / "two.tif", {.lineage = true, .run = {.threads = 4, .memory = 1 << 20}});
  EXPECT_EQ(read_text_file(folder / "one.tif"), read_text_file(folder / "two.tif"));
  EXPECT_EQ(read_text_file(folder / "one.lineage.tif"), read_text_file(folder / "two.lineage.tif"));
}

TEST(TiffWrite, BigTiffToo) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(150, 90), 6);
  write_grid(g, folder / "a.tif", {.lineage = true, .always_big = true, .tile = 32, .run = {}});
  EXPECT_EQ(read_text_file(folder / "a.tif")[2], 43);
  const Grid back = open_grid(folder / "a.tif");
  expect_equal(g, back);
  EXPECT_EQ(back.frame(), g.frame());
  TIFF* t = TIFFOpen((folder / "a.tif").c_str(), "r");
  ASSERT_TRUE(t);
  EXPECT_TRUE(TIFFIsBigTIFF(t));
  EXPECT_TRUE(TIFFSetDirectory(t, 3));
  TIFFClose(t);
}

std::vector<std::uint64_t> tile_offsets(TIFF* t, int level) {
  EXPECT_TRUE(TIFFSetDirectory(t, static_cast<tdir_t>(level)));
  std::uint64_t* offsets = nullptr;
  TIFFGetField(t, TIFFTAG_TILEOFFSETS, &offsets);
  return {offsets, offsets + TIFFNumberOfTiles(t)};
}

// The grid at full size, and each level the means of what is known at the one above it.
void expect_all_levels(const Grid& g, const std::filesystem::path& path, std::int64_t tile) {
  Grid fine = open_grid(path);
  expect_equal(g, fine);
  for (auto half = fine.half(); half; half = fine.half()) {
    const auto z = all_values(fine), means = all_values(*half);
    const std::int64_t w = fine.frame().cols(), h = fine.frame().rows(), half_w = half->frame().cols();
    for (std::size_t i = 0; i < means.size(); ++i) {
      const std::int64_t c = 2 * (static_cast<std::int64_t>(i) % half_w),
                         r = 2 * (static_cast<std::int64_t>(i) / half_w);
      float sum = 0;
      int n = 0;
      for (std::int64_t y = r; y < std::min(h, r + 2); ++y)
        for (std::int64_t x = c; x < std::min(w, c + 2); ++x)
          if (const float v = z[static_cast<std::size_t>(y * w + x)]; !std::isnan(v)) sum += v, ++n;
      ASSERT_TRUE(same_bits(means[i], n ? sum / static_cast<float>(n) : kVoid)) << "cell " << i << " of " << half_w;
    }
    fine = *half;
  }
  EXPECT_LE(std::max(fine.frame().cols(), fine.frame().rows()), tile);
}

// Rows of tiles lie one behind the other, so that what is looked at together lies together, and the overviews behind
// what they were made of; of many tiles four rows go together, of very many eight. All levels are right at odd sizes.
TEST(TiffWrite, RowsOfTilesLieTogetherAndTheirOverviewsBehindThem) {
  TemporaryFolder folder;
  for (const auto& [cols, rows, side] : {std::tuple{150, 90, 2}, {1050, 1040, 4}, {2100, 2070, 8}}) {
    const Grid g = rough_grid(utm_frame(cols, rows), 8, 9);
    write_grid(g, folder / "a.tif", {.overwrite = true, .codec = Codec::None, .tile = 16, .run = {}});
    TIFF* t = TIFFOpen((folder / "a.tif").c_str(), "r");
    ASSERT_TRUE(t);
    // By place in the file: which rows go together, the level, the number of the tile.
    std::map<std::uint64_t, std::tuple<std::int64_t, int, std::int64_t>> at;
    for (int level = 0, n = side; n > 0; ++level, n /= 2) {
      const auto offsets = tile_offsets(t, level);
      const std::int64_t across = (cols + (16 << level) - 1) / (16 << level);
      for (std::size_t i = 0; i < offsets.size(); ++i) {
        const auto tile = static_cast<std::int64_t>(i);
        at[offsets[i]] = {tile / across / n, level, tile};
      }
    }
    TIFFClose(t);
    std::tuple<std::int64_t, int, std::int64_t> last;
    for (const auto& [offset, place] : at) {
      EXPECT_LE(last, place) << "at " << offset;
      last = place;
    }
    expect_all_levels(g, folder / "a.tif", 16);
  }
}

// Of a surface so wide that a row of squares does not wait to be whole.
TEST(TiffWrite, AWideSurfaceIsWhole) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(9300, 1060), 8, 9);
  write_grid(g, folder / "a.tif", {.codec = Codec::None, .run = {}});
  TIFF* t = TIFFOpen((folder / "a.tif").c_str(), "r");
  ASSERT_TRUE(t);
  const auto offsets = tile_offsets(t, 0);
  TIFFClose(t);
  EXPECT_LT(offsets[19], offsets[18]) << "nothing left before its row was whole";
  expect_all_levels(g, folder / "a.tif", 512);
}

// Tiles too large for several of them to be held together.
TEST(TiffWrite, LargeTilesAreMadeOneByOne) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(2900, 2100), 8, 9);
  for (int tile : {2048, 1024}) {
    write_grid(g, folder / "a.tif", {.overwrite = true, .tile = tile, .run = {}});
    expect_all_levels(g, folder / "a.tif", tile);
  }
}

TEST(TiffWrite, OverviewsAreMeansOfWhatIsKnown) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(90, 70), 4, 5);
  write_grid(g, folder / "a.tif", {.tile = 32, .run = {}});
  TIFF* t = TIFFOpen((folder / "a.tif").c_str(), "r");
  ASSERT_TRUE(t);
  std::uint32_t w = 0, h = 0;
  ASSERT_TRUE(TIFFSetDirectory(t, 1));
  TIFFGetField(t, TIFFTAG_IMAGEWIDTH, &w);
  TIFFGetField(t, TIFFTAG_IMAGELENGTH, &h);
  EXPECT_EQ(w, 45u);
  EXPECT_EQ(h, 35u);
  std::vector<float> tile(32 * 32);
  const auto all = all_values(g);
  auto at = [&](std::int64_t c, std::int64_t r) {
    return c < 90 && r < 70 ? all[static_cast<std::size_t>(r * 90 + c)] : kVoid;
  };
  for (std::uint32_t ty = 0; ty < h; ty += 32)
    for (std::uint32_t tx = 0; tx < w; tx += 32) {
      ASSERT_GT(TIFFReadTile(t, tile.data(), tx, ty, 0, 0), 0);
      for (std::uint32_t r = 0; r < 32 && ty + r < h; ++r)
        for (std::uint32_t c = 0; c < 32 && tx + c < w; ++c) {
          float sum = 0;
          int n = 0;
          for (int j = 0; j < 2; ++j)
            for (int i = 0; i < 2; ++i)
              if (const float z = at(2 * (tx + c) + i, 2 * (ty + r) + j); !std::isnan(z)) {
                sum += z;
                ++n;
              }
          const float expected = n ? sum / static_cast<float>(n) : kVoid;
          ASSERT_TRUE(same_bits(tile[r * 32 + c], expected)) << tx + c << ", " << ty + r;
        }
    }
  EXPECT_TRUE(TIFFSetDirectory(t, 2));
  EXPECT_FALSE(TIFFSetDirectory(t, 3));
  TIFFClose(t);
}

TEST(TiffWrite, HeaderStandsBeforeAllTiles) {
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(300, 300), 5), folder / "a.tif", {.tile = 64, .run = {}});
  EXPECT_NE(open_grid_file(folder / "a.tif").facts.layout.find("header first"), std::string::npos);
}

TEST(TiffWrite, UserDefinedCrsSurvives) {
  TemporaryFolder folder;
  const Crs own =
      Crs::parse("+proj=tmerc +lat_0=-37.5 +lon_0=-31 +k=1 +x_0=10000 +y_0=20000 +datum=WGS84 +units=m +type=crs");
  write_grid(grid_from_values({own, 9000, 21000, {1, 1}, 3, 2}, {1, 2, 3, 4, 5, 6}), folder / "a.tif", {});
  const Grid back = open_grid(folder / "a.tif");
  const Point a = Transform(own, Crs::wgs84()).forward({9000, 21000}),
              b = Transform(back.frame().crs(), Crs::wgs84()).forward({9000, 21000});
  EXPECT_NEAR(a.x, b.x, 1e-9);
  EXPECT_NEAR(a.y, b.y, 1e-9);
}

TEST(TiffWrite, VerticalReferencesAndUnitsSurvive) {
  TemporaryFolder folder;
  for (const char* reference : {"ellipsoid", "EGM96", "EPSG:5703", "unknown"})
    for (LengthUnit unit : {LengthUnit::Metre, LengthUnit::Foot, LengthUnit::UsFoot}) {
      Quantity q;
      q.heights = HeightReference::parse(reference);
      q.unit = unit;
      q.unit_known = true;
      write_grid(grid_from_values(utm_frame(2, 2), {1, 2, 3, 4}, q), folder / "a.tif", {.overwrite = true, .run = {}});
      const Quantity back = open_grid(folder / "a.tif").quantity();
      EXPECT_EQ(back.heights, q.heights) << reference;
      EXPECT_EQ(back.unit, unit);
      EXPECT_TRUE(back.unit_known);
    }
}

TEST(TiffWrite, AValueThatIsTheVoidValueIsRefusedAndNothingIsLeft) {
  TemporaryFolder folder;
  const Grid g = grid_from_values(utm_frame(2, 1), {5, -32768}, metres_above_egm2008(), SampleType::Int16);
  EXPECT_EQ(error_of([&] { write_grid(g, folder / "a.tif", {}); }), ErrorCode::BadArgument);
  EXPECT_EQ(folder.files(), 0u);
  write_grid(g, folder / "a.tif", {.void_value = -1, .run = {}});
  EXPECT_EQ(open_grid(folder / "a.tif").at(1, 0), -32768);
}

// ---- what libtiff writes

struct Made {
  bool tiled, big_endian, point;
  int compression, predictor;
  SampleType type;
};

template <class T>
void fill_rows(TIFF* t, const Made& m, const std::vector<float>& v, std::uint32_t cols, std::uint32_t rows) {
  constexpr std::uint32_t kTile = 16;
  if (m.tiled) {
    for (std::uint32_t y = 0; y < rows; y += kTile)
      for (std::uint32_t x = 0; x < cols; x += kTile) {
        std::vector<T> tile(kTile * kTile, T{});
        for (std::uint32_t r = 0; r < kTile && y + r < rows; ++r)
          for (std::uint32_t c = 0; c < kTile && x + c < cols; ++c)
            tile[r * kTile + c] = static_cast<T>(v[(y + r) * cols + x + c]);
        TIFFWriteTile(t, tile.data(), x, y, 0, 0);
      }
    return;
  }
  for (std::uint32_t r = 0; r < rows; ++r) {
    std::vector<T> row(cols);
    for (std::uint32_t c = 0; c < cols; ++c) row[c] = static_cast<T>(v[r * cols + c]);
    TIFFWriteScanline(t, row.data(), r, 0);
  }
}

void extend(TIFF* t) {
  static const TIFFFieldInfo kFields[] = {{33550, -1, -1, TIFF_DOUBLE, FIELD_CUSTOM, 1, 1, const_cast<char*>("scale")},
                                          {33922, -1, -1, TIFF_DOUBLE, FIELD_CUSTOM, 1, 1, const_cast<char*>("ties")},
                                          {34735, -1, -1, TIFF_SHORT, FIELD_CUSTOM, 1, 1, const_cast<char*>("keys")},
                                          {42113, -1, -1, TIFF_ASCII, FIELD_CUSTOM, 1, 0, const_cast<char*>("void")}};
  TIFFMergeFieldInfo(t, kFields, 4);
}

std::vector<float> write_by_libtiff(const std::filesystem::path& path, const Made& m, std::uint32_t cols,
                                    std::uint32_t rows) {
  std::mt19937 random(cols * 131 + rows);
  std::vector<float> v(cols * rows);
  for (float& x : v) x = static_cast<float>(random() % 120);
  TIFF* t = TIFFOpen(path.c_str(), m.big_endian ? "wb" : "wl");
  extend(t);
  TIFFSetField(t, TIFFTAG_IMAGEWIDTH, cols);
  TIFFSetField(t, TIFFTAG_IMAGELENGTH, rows);
  TIFFSetField(t, TIFFTAG_BITSPERSAMPLE, 8 * bytes_per_sample(m.type));
  TIFFSetField(t, TIFFTAG_SAMPLEFORMAT,
               !is_integer(m.type)     ? SAMPLEFORMAT_IEEEFP
               : lowest_of(m.type) < 0 ? SAMPLEFORMAT_INT
                                       : SAMPLEFORMAT_UINT);
  TIFFSetField(t, TIFFTAG_SAMPLESPERPIXEL, 1);
  TIFFSetField(t, TIFFTAG_COMPRESSION, m.compression);
  if (m.predictor > 1) TIFFSetField(t, TIFFTAG_PREDICTOR, m.predictor);
  if (m.tiled) {
    TIFFSetField(t, TIFFTAG_TILEWIDTH, 16);
    TIFFSetField(t, TIFFTAG_TILELENGTH, 16);
  } else {
    TIFFSetField(t, TIFFTAG_ROWSPERSTRIP, 7);
  }
  const double scale[] = {2, 2, 0}, ties[] = {0, 0, 0, 676000, 5842000, 0};
  const std::uint16_t keys[] = {
      1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, static_cast<std::uint16_t>(m.point ? 2 : 1), 3072, 0, 1, 32725};
  TIFFSetField(t, 33550, 3, scale);
  TIFFSetField(t, 33922, 6, ties);
  TIFFSetField(t, 34735, 16, keys);
  TIFFSetField(t, 42113, "7");
  switch (m.type) {
    case SampleType::UInt8:
      fill_rows<std::uint8_t>(t, m, v, cols, rows);
      break;
    case SampleType::Int8:
      fill_rows<std::int8_t>(t, m, v, cols, rows);
      break;
    case SampleType::UInt16:
      fill_rows<std::uint16_t>(t, m, v, cols, rows);
      break;
    case SampleType::Int16:
      fill_rows<std::int16_t>(t, m, v, cols, rows);
      break;
    case SampleType::UInt32:
      fill_rows<std::uint32_t>(t, m, v, cols, rows);
      break;
    case SampleType::Int32:
      fill_rows<std::int32_t>(t, m, v, cols, rows);
      break;
    case SampleType::UInt64:
      fill_rows<std::uint64_t>(t, m, v, cols, rows);
      break;
    case SampleType::Int64:
      fill_rows<std::int64_t>(t, m, v, cols, rows);
      break;
    case SampleType::Float32:
      fill_rows<float>(t, m, v, cols, rows);
      break;
    case SampleType::Float64:
      fill_rows<double>(t, m, v, cols, rows);
      break;
  }
  TIFFClose(t);
  for (float& x : v)
    if (x == 7) x = kVoid;
  return v;
}

TEST(TiffRead, WhateverLibtiffWrites) {
  TemporaryFolder folder;
  int read = 0;
  for (bool tiled : {false, true})
    for (bool big : {false, true})
      for (int compression : {COMPRESSION_NONE, COMPRESSION_LZW, COMPRESSION_ADOBE_DEFLATE, COMPRESSION_ZSTD,
                              COMPRESSION_PACKBITS, COMPRESSION_LERC, COMPRESSION_LZMA})
        for (int predictor : {1, 2, 3})
          for (SampleType type : types()) {
            const bool can_predict = compression != COMPRESSION_NONE && compression != COMPRESSION_PACKBITS &&
                                     compression != COMPRESSION_LERC;
            // Libraries that were built without a method write nothing by it.
            if (!TIFFIsCODECConfigured(static_cast<std::uint16_t>(compression))) continue;
            // LERC describes numbers of up to 32 bits, whole ones as doubles that hold them.
            if (compression == COMPRESSION_LERC && (type == SampleType::Int64 || type == SampleType::UInt64)) continue;
            if (predictor > 1 && !can_predict) continue;
            if (predictor == 3 && is_integer(type)) continue;
            if (predictor == 3 && big) continue;  // libtiff 4.5 does not read back what it writes here
            const Made m{tiled, big, false, compression, predictor, type};
            SCOPED_TRACE(::testing::Message() << "tiled " << tiled << " big-endian " << big << " compression "
                                              << compression << " predictor " << predictor << " " << name_of(type));
            const auto expected = write_by_libtiff(folder / "a.tif", m, 45, 38);
            const Grid g = open_grid(folder / "a.tif");
            ASSERT_EQ(g.info().type, type);
            const auto got = all_values(g);
            ASSERT_EQ(got.size(), expected.size());
            for (std::size_t i = 0; i < got.size(); ++i) ASSERT_TRUE(same_bits(got[i], expected[i])) << "cell " << i;
            ++read;
          }
  EXPECT_GT(read, 180);
}

TEST(TiffRead, PixelIsPointIsHalfACellFurtherOut) {
  TemporaryFolder folder;
  write_by_libtiff(folder / "area.tif", {false, false, false, COMPRESSION_NONE, 1, SampleType::Int16}, 10, 10);
  write_by_libtiff(folder / "point.tif", {false, false, true, COMPRESSION_NONE, 1, SampleType::Int16}, 10, 10);
  EXPECT_EQ(open_grid(folder / "area.tif").frame().west(), 676000);
  EXPECT_EQ(open_grid(folder / "point.tif").frame().west(), 675999);
  EXPECT_EQ(open_grid(folder / "point.tif").frame().north(), 5842001);
}

TEST(TiffRead, BlocksAreDecodedOnce) {
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(256, 256), 9), folder / "a.tif", {.overviews = false, .tile = 64, .run = {}});
  const Grid g = open_grid(folder / "a.tif");
  const auto before = BlockCache::shared().made();
  for (int i = 0; i < 5; ++i) g.read({i, i, 200, 200});
  EXPECT_EQ(BlockCache::shared().made() - before, 16u);
}

TEST(TiffRead, SameForEveryWindow) {
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(131, 77), 10), folder / "a.tif", {.tile = 32, .run = {}});
  expect_same_for_every_window(open_grid(folder / "a.tif"), 11);
}

// ---- damage

TEST(TiffRead, WhatIsNoTiffIsRefusedClearly) {
  TemporaryFolder folder;
  write_text_file(folder / "text.tif", "this is a letter, not a grid\n");
  EXPECT_EQ(error_of([&] { open_grid(folder / "text.tif"); }), ErrorCode::BadFile);
  std::ofstream(folder / "empty.tif");
  EXPECT_EQ(error_of([&] { open_grid(folder / "empty.tif"); }), ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { open_grid(folder / "nowhere.tif"); }), ErrorCode::Io);
  EXPECT_EQ(error_of([&] { open_grid(folder.path()); }), ErrorCode::Io);
}

TEST(TiffRead, ATruncatedFileOpensButItsMissingTilesAreErrorsWithAPlace) {
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(512, 512), 12), folder / "a.tif", {.overviews = false, .tile = 128, .run = {}});
  std::filesystem::resize_file(folder / "a.tif", std::filesystem::file_size(folder / "a.tif") / 2);
  const GridFile f = open_grid_file(folder / "a.tif");
  ASSERT_EQ(f.facts.problems.size(), 1u);
  EXPECT_NE(f.facts.problems[0].find("truncated"), std::string::npos);
  EXPECT_FALSE(std::isnan(f.grid.at(3, 3)));
  std::string text;
  EXPECT_EQ(error_of([&] { f.grid.at(500, 500); }, &text), ErrorCode::BadFile);
  EXPECT_NE(text.find("row 3, column 3"), std::string::npos) << text;
}

// A header may claim anything; whatever is flipped in it, the answer is an Error or a grid, never a crash or a huge
// allocation.
// Means of what is known, on the same ground; also where labels and units lie between.
TEST(TiffRead, OverviewsAreTheGroundAtHalfTheFineness) {
  TemporaryFolder folder;
  for (const auto& [cols, rows] : {std::pair{131, 90}, {97, 131}, {33, 1}}) {
    const Grid g = rough_grid(utm_frame(cols, rows), 4, rows > 1 ? 5 : 0);
    write_grid(g, folder / "a.tif", {.overwrite = true, .tile = 32, .run = {}});
    Grid fine = open_grid(folder / "a.tif");
    int levels = 0;
    for (auto half = fine.half(); half; half = fine.half(), ++levels) {
      EXPECT_EQ(half->frame().cols(), (fine.frame().cols() + 1) / 2);
      EXPECT_EQ(half->frame().west(), fine.frame().west());
      EXPECT_EQ(half->frame().north(), fine.frame().north());
      EXPECT_EQ(half->frame().cell().x, 2 * fine.frame().cell().x);
      EXPECT_EQ(half->frame().crs().epsg(), 32725);
      const Frame& f = fine.frame();
      for (std::int64_t r = 0; r < half->frame().rows(); ++r)
        for (std::int64_t c = 0; c < half->frame().cols(); ++c) {
          double sum = 0;
          int n = 0;
          for (std::int64_t y = 2 * r; y < std::min(f.rows(), 2 * r + 2); ++y)
            for (std::int64_t x = 2 * c; x < std::min(f.cols(), 2 * c + 2); ++x)
              if (const double z = value_at(fine, x, y); !std::isnan(z)) sum += z, ++n;
          const double mean = value_at(*half, c, r);
          ASSERT_EQ(std::isnan(mean), n == 0);
          if (n > 0) {
            ASSERT_NEAR(mean, sum / n, 1e-4);
          }
        }
      fine = *half;
    }
    EXPECT_EQ(levels, cols == 33 ? 1 : 3);
    const Grid feet = in_unit(open_grid(folder / "a.tif"), LengthUnit::Foot);
    const double metres = value_at(*open_grid(folder / "a.tif").half(), 3, 0);
    EXPECT_NEAR(value_at(*feet.half(), 3, 0), metres / 0.3048, 1e-4);
    EXPECT_FALSE(with_void(feet, 7).half());  // its means are of what is a void
  }
}

// Overviews of libtiff's making, packed by what is not decoded here; one of another size is none.
TEST(TiffRead, OverviewsOfOtherMakersAreReadInTheirOwnDirectory) {
  TemporaryFolder folder;
  for (const bool fits : {true, false}) {
    const std::string name = folder / (fits ? "a.tif" : "b.tif");
    TIFF* t = TIFFOpen(name.c_str(), "w");
    for (const auto& [cols, rows, value] : {std::tuple{21, 13, 10.0F}, {fits ? 11 : 12, 7, 20.0F}}) {
      if (value > 10) TIFFSetField(t, TIFFTAG_SUBFILETYPE, FILETYPE_REDUCEDIMAGE);
      TIFFSetField(t, TIFFTAG_IMAGEWIDTH, cols);
      TIFFSetField(t, TIFFTAG_IMAGELENGTH, rows);
      TIFFSetField(t, TIFFTAG_BITSPERSAMPLE, 32);
      TIFFSetField(t, TIFFTAG_SAMPLEFORMAT, SAMPLEFORMAT_IEEEFP);
      TIFFSetField(t, TIFFTAG_COMPRESSION, COMPRESSION_LZW);
      TIFFSetField(t, TIFFTAG_ROWSPERSTRIP, 4);
      std::vector<float> row(static_cast<std::size_t>(cols), value);
      for (int r = 0; r < rows; ++r) TIFFWriteScanline(t, row.data(), static_cast<std::uint32_t>(r), 0);
      TIFFWriteDirectory(t);
    }
    TIFFClose(t);
    write_text_file(std::filesystem::path(name).replace_extension(".tfw"), "1\n0\n0\n-1\n676000.5\n5841999.5\n");
    const Grid g = open_grid(name, {.crs = Crs::parse("EPSG:32725")});
    EXPECT_EQ(value_at(g, 20, 12), 10);
    ASSERT_EQ(g.half().has_value(), fits);
    if (fits) {
      EXPECT_EQ(value_at(*g.half(), 10, 6), 20);
    }
    EXPECT_EQ(value_at(g, 0, 0), 10);
  }
}

TEST(TiffRead, FlippedBytesNeverCrash) {
  TemporaryFolder folder;
  std::vector<std::string> originals;
  write_grid(rough_grid(utm_frame(100, 80), 13), folder / "a.tif", {.tile = 32, .run = {}});
  originals.push_back(read_text_file(folder / "a.tif"));
  write_by_libtiff(folder / "b.tif", {false, true, false, COMPRESSION_LZW, 2, SampleType::Int16}, 45, 38);
  originals.push_back(read_text_file(folder / "b.tif"));
  for (unsigned i = 0; i < 500; ++i) {
    std::mt19937 random(i + 1);  // a case can be made again from its number
    std::string bytes = originals[i % 2];
    const std::size_t reach = i % 3 ? std::min<std::size_t>(bytes.size(), 900) : bytes.size();
    for (unsigned k = 0; k <= i % 5; ++k) bytes[random() % reach] = static_cast<char>(random());
    if (i % 7 == 0) bytes.resize(random() % bytes.size());
    if (bytes.empty()) continue;
    write_text_file(folder / "c.tif", bytes, {.overwrite = true});
    try {
      const Grid g = open_grid(folder / "c.tif");
      g.read(Window{0, 0, 60, 60}.intersected(g.frame().window()));
      for (auto half = g.half(); half; half = half->half()) half->read(half->frame().window());
    } catch (const Error&) {
    }
  }
}

// ---- the outside world says no

class FullDisk final : public ByteSink {
 public:
  FullDisk(std::unique_ptr<ByteSink> inner, std::uint64_t room) : inner_(std::move(inner)), room_(room) {}
  void write_at(std::uint64_t offset, std::span<const std::uint8_t> bytes) override {
    if (offset + bytes.size() > room_) throw Error(ErrorCode::Io, "no space left on device", "disk", "make room");
    inner_->write_at(offset, bytes);
  }
  void commit() override { inner_->commit(); }

 private:
  std::unique_ptr<ByteSink> inner_;
  std::uint64_t room_;
};

TEST(TiffWrite, AFullDiskLeavesNothingBehind) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(600, 600), 14);
  for (std::uint64_t room : {0u, 1000u, 100000u}) {
    set_sink_wrapper([&](std::unique_ptr<ByteSink> inner) -> std::unique_ptr<ByteSink> {
      return std::make_unique<FullDisk>(std::move(inner), room);
    });
    EXPECT_EQ(error_of([&] { write_grid(g, folder / "a.tif", {.tile = 128, .run = {}}); }), ErrorCode::Io);
    set_sink_wrapper({});
    EXPECT_EQ(folder.files(), 0u);
  }
}

TEST(TiffWrite, AnExistingFileIsKeptUnlessToldOtherwise) {
  TemporaryFolder folder;
  write_text_file(folder / "a.tif", "precious");
  const Grid g = rough_grid(utm_frame(10, 10), 15);
  EXPECT_EQ(error_of([&] { write_grid(g, folder / "a.tif", {}); }), ErrorCode::Io);
  EXPECT_EQ(read_text_file(folder / "a.tif"), "precious");
  // A run that fails on the way keeps the old file, too.
  const Grid broken = grid_from_function(
      utm_frame(10, 10), [](double, double) -> double { throw Error(ErrorCode::BadFile, "source broke"); });
  EXPECT_EQ(error_of([&] { write_grid(broken, folder / "a.tif", {.overwrite = true, .run = {}}); }),
            ErrorCode::BadFile);
  EXPECT_EQ(read_text_file(folder / "a.tif"), "precious");
  EXPECT_EQ(error_of([&] { write_grid(g, folder / "nowhere/a.tif", {}); }), ErrorCode::Io);
  EXPECT_EQ(error_of([&] { write_grid(g, folder / "a.doc", {}); }), ErrorCode::Unsupported);
}

// ---- codecs and predictors against their definitions

TEST(TiffCodec, PredictorsAreInverses) {
  std::mt19937 random(1);
  for (int bytes_per : {1, 2, 4, 8})
    for (std::int64_t cols : {1, 2, 15, 16, 17, 33, 64, 250}) {
      std::vector<std::uint8_t> raw(static_cast<std::size_t>(cols * 5 * bytes_per));
      for (auto& b : raw) b = static_cast<std::uint8_t>(random());
      auto a = raw;
      tiff::encode_difference(a.data(), cols, 5, bytes_per);
      tiff::decode_difference(a.data(), cols, 5, bytes_per);
      EXPECT_EQ(a, raw);
      tiff::encode_floating_point(a.data(), cols, 5, bytes_per);
      tiff::decode_floating_point(a.data(), cols, 5, bytes_per);
      EXPECT_EQ(a, raw);
    }
}

TEST(TiffCodec, DamagedDataAreNoticed) {
  const std::vector<std::uint8_t> raw(5000, 42);
  for (int c : {tiff::kDeflate, tiff::kZstd}) {
    auto packed = tiff::compress(raw, c, 3);
    std::vector<std::uint8_t> out(raw.size());
    EXPECT_TRUE(tiff::decompress(packed, c, out));
    EXPECT_EQ(out, raw);
    packed.resize(packed.size() / 2);
    EXPECT_FALSE(tiff::decompress(packed, c, out));
    std::vector<std::uint8_t> shorter(100);
    EXPECT_FALSE(tiff::decompress(tiff::compress(raw, c, 3), c, shorter));
  }
}

}  // namespace
}  // namespace katoptra
