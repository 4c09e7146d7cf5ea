// The table of formats: what is true of every row, so that a new one is tested by being there.
#include "katoptra/formats/format.hpp"

#include <set>

#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

constexpr Holds kAllHolds[] = {Holds::Grids, Holds::Points, Holds::Features, Holds::Files};

TEST(FormatTable, RowsAreWholeAndDoNotContradictEachOther) {
  std::set<std::string> keys, names;
  for (const Format& f : formats()) {
    SCOPED_TRACE(f.name);
    EXPECT_TRUE(keys.insert(f.key).second && names.insert(f.name).second);
    EXPECT_FALSE(f.endings.empty() || (f.read.empty() && f.written.empty()));
    for (const std::string& e : f.endings) {
      EXPECT_TRUE(e.starts_with('.') && std::none_of(e.begin(), e.end(), [](char c) { return std::isupper(c); })) << e;
      EXPECT_TRUE(f.ends("DEM" + e) && f.ends("dem.1" + e));
      EXPECT_FALSE(f.ends(e)) << "a name that is nothing but an ending";
    }
    // What is read has an example of a bad one.
    EXPECT_EQ(f.damaged.bytes.empty(), f.read.empty());
  }
  // An ending leads to one format for each thing that it may hold.
  for (const Holds h : kAllHolds)
    for (const Use use : {Use::Read, Use::Written}) {
      std::set<std::string> endings;
      for (const Format& f : formats()) {
        if (!f.holds(h, use)) continue;
        for (const std::string& e : f.endings) EXPECT_TRUE(endings.insert(e).second) << e;
      }
    }
}

TEST(FormatTable, NamesAndMediaTypesLeadToTheirRow) {
  EXPECT_EQ(format_of("a/B.TIFF")->name, "GeoTIFF");
  EXPECT_EQ(format_of("sheet.copc.laz")->name, "LAZ");
  EXPECT_EQ(format_of("x.tar.gz")->name, "gz");
  EXPECT_TRUE(has_ending("a/TABLE.CSV", ".csv") && has_ending("b.csv", ".csv"));
  EXPECT_FALSE(has_ending("a.csv/b", ".csv") || has_ending("csv", ".csv"));
  EXPECT_EQ(format_of("readme"), nullptr);
  EXPECT_EQ(format_of("a.png", Holds::Grids, Use::Read), nullptr);
  EXPECT_EQ(format_of("a.png", Holds::Grids, Use::Written)->name, "PNG height map");
  EXPECT_EQ(format_of_media("image/tiff; application=geotiff; profile=cloud-optimized")->name, "GeoTIFF");
  EXPECT_EQ(format_of_media("application/vnd.laszip")->name, "LAZ") << "neither LAS nor zip, whose words it holds";
  EXPECT_EQ(format_of_media("application/vnd.las")->name, "LAS");
  EXPECT_EQ(format_of_media("application/gzip")->name, "gz");
  EXPECT_EQ(format_of_media("text/html"), nullptr);
  for (const Format& f : formats())
    if (!f.media_word.empty()) {
      EXPECT_EQ(format_of_media(f.media_type), &f) << f.media_type;
    }
}

// Every way into Katoptra refuses a damaged file of every format as that, and does nothing worse.
TEST(FormatTable, DamagedExamplesAreBadFiles) {
  TemporaryFolder folder;
  for (const Format& f : formats()) {
    if (f.read.empty()) continue;
    SCOPED_TRACE(f.name);
    const fs::path path = folder / f.damaged.name;
    write_text_file(path, f.damaged.bytes, {.overwrite = true});
    if (f.holds(Holds::Grids, Use::Read)) {
      EXPECT_EQ(error_of([&] { all_values(open_grid(path)); }), ErrorCode::BadFile);
    }

    if (f.holds(Holds::Points, Use::Read)) {
      EXPECT_EQ(error_of([&] {
                  const PointFile p = open_point_file(path);
                  for (std::size_t i = 0; i < p.cloud.parts(); ++i) p.cloud.read(i);
                }),
                ErrorCode::BadFile);
    }

    if (f.holds(Holds::Features, Use::Read)) {
      EXPECT_EQ(error_of([&] { read_layer(path, utm_frame(1, 1).crs()); }), ErrorCode::BadFile);
    }

    if (f.holds(Holds::Files, Use::Read)) {
      EXPECT_EQ(error_of([&] {
                  const auto a = Archive::open(open_file(path));
                  for (const ArchiveEntry& e : a->entries()) read_text(*a->open_entry(e.name));
                }),
                ErrorCode::BadFile);
    }
  }
}

// What is written under any ending comes back.
TEST(FormatTable, WhatIsWrittenComesBack) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(23, 17, 2), 9, 4);
  const auto before = all_values(g);
  for (const Format& f : formats())
    for (const std::string& e : f.endings) {
      SCOPED_TRACE(f.name + e);
      const fs::path path = folder / ("a" + f.key + e);
      if (f.holds(Holds::Grids, Use::Written) && f.holds(Holds::Grids, Use::Read) && !f.heights_only) {
        write_grid(g, path, {.overwrite = true, .run = {}});
        const auto after = all_values(open_grid(path));
        ASSERT_EQ(before.size(), after.size());
        for (std::size_t i = 0; i < before.size(); ++i)
          if (!std::isnan(before[i])) {
            ASSERT_FLOAT_EQ(before[i], after[i]);
          }

        EXPECT_TRUE(looks_like_grid(path));
      }
      if (f.holds(Holds::Features, Use::Written) && f.holds(Holds::Features, Use::Read)) {
        // A drawing is in metres.
        const Crs crs = f.key == "dxf" ? Crs::parse("EPSG:32725") : Crs::wgs84();
        const Layer layer{.name = "p",
                          .crs = crs,
                          .features = {{Point{-31.25, -37.5}, {{"z", 12.5}}}, {Point{-31, -37}, {{"z", 7.25}}}}};
        write_layer(layer, path, {.overwrite = true});
        const Layer back = read_layer(path, crs);
        ASSERT_EQ(back.features.size(), 2u);
        EXPECT_EQ(std::get<Point>(back.features[1].geometry).x, -31);
        const auto& own = back.features[0].properties;
        EXPECT_TRUE(std::any_of(own.begin(), own.end(),
                                [](const auto& q) { return q.first == "z" && q.second == Property(12.5); }));
      }
    }
}

TEST(FormatTable, WhatLiesBesideAFile) {
  TemporaryFolder folder;
  for (const char* name :
       {"a.tif", "a.TFW", "a.prj", "a.hdr", "a.tif.json", "ab.prj", "b.bil", "b.hdr", "c.img", "c.hdr"})
    write_text_file(folder / name, "x");
  const auto names = [&](const char* of) {
    std::set<std::string> s;
    for (const fs::path& p : files_beside(folder / of)) s.insert(p.filename().string());
    return s;
  };
  EXPECT_EQ(names("a.tif"), (std::set<std::string>{"a.TFW", "a.prj", "a.tif.json"})) << "no header: it has its own";
  EXPECT_EQ(names("b.bil"), (std::set<std::string>{"b.hdr"}));
  EXPECT_EQ(names("c.img"), (std::set<std::string>{"c.hdr"})) << "an ending that says nothing";
}

// A type that is a number ended the whole tool.
TEST(FormatTable, GeoJsonOfWrongTypesIsABadFile) {
  TemporaryFolder folder;
  for (const char* text :
       {R"({"type": 5})", R"([1, 2])", R"("Feature")", R"({"type": "Feature", "geometry": 3})",
        R"({"type": "FeatureCollection", "features": 3})", R"({"type": "Feature", "geometry": {"type": ["Point"]}})",
        R"({"type": "Point", "coordinates": [1]})", R"({"type": "Polygon", "coordinates": [[[0,0],[1,1]]]})",
        R"({"crs": {"properties": 7}, "type": "LineString", "coordinates": {"a": 1}})"}) {
    write_text_file(folder / "a.geojson", text, {.overwrite = true});
    EXPECT_EQ(error_of([&] { read_layer(folder / "a.geojson"); }), ErrorCode::BadFile) << text;
  }
}

}  // namespace
}  // namespace katoptra
