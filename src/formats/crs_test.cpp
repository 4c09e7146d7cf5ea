// CRSs of all kinds through files: what comes back must mean the same.
#include <fmt/format.h>

#include "katoptra/formats/grid_file.hpp"

#include "geo/conversion.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace katoptra::testing;

// A small grid about the middle of a system's use: where its own false origin is, or near a place given.
Grid grid_in(const Crs& crs, Point lonlat, double cell = 0) {
  const Point at = Transform(Crs::wgs84(), crs).forward(lonlat);
  EXPECT_FALSE(std::isnan(at.x)) << crs.name();
  if (cell == 0) cell = crs.is_geographic() ? 0.001 : 100 / crs.unit_factor();
  const double west = std::round(at.x / cell) * cell, north = std::round(at.y / cell) * cell;
  return grid_from_function(
      {crs, west, north, {cell, cell}, 9, 7}, [](double x, double y) { return std::fmod(x + y, 50.0); },
      metres_above_egm2008());
}

// True when the file alone tells its CRS.
bool expect_back(const Grid& g, const std::string& file, const std::string& what) {
  SCOPED_TRACE(what + " in " + file);
  const WriteReport r = write_grid(g, file, {.overwrite = true});
  const Grid back = open_grid(file);
  EXPECT_TRUE(back.frame().crs());
  EXPECT_TRUE(means_the_same(g.frame().crs(), back.frame().crs(), g.frame().bounds()))
      << g.frame().crs().proj_string() << "\n"
      << back.frame().crs().proj_string();
  EXPECT_NEAR(back.frame().crs().unit_factor() / g.frame().crs().unit_factor(), 1, 1e-9);
  EXPECT_NEAR(back.frame().west(), g.frame().west(), 1e-9 * std::abs(g.frame().west()) + 1e-9);
  // Where keys cannot say it, it is said that they cannot.
  const bool beside = !r.beside.empty() && r.beside[0].extension() == ".prj";
  if (std::filesystem::path(file).extension() == ".tif" && beside) {
    EXPECT_FALSE(r.info.notes.empty());
    EXPECT_NE(r.info.notes.back().find("no terms"), std::string::npos);
  }
  std::filesystem::remove(std::filesystem::path(file).replace_extension(".prj"));
  return !beside;
}

constexpr const char* kTerms[] = {"tmerc +lat_0=10 +lon_0=20 +k=0.9999 +x_0=500000 +y_0=-1000",
                                  "utm +zone=33 +south",
                                  "tmerc +lon_0=20 +axis=wsu",
                                  "omerc +lat_0=40 +lonc=20 +alpha=45 +gamma=30 +k=0.9998 +x_0=1000 +y_0=2000",
                                  "omerc +lat_0=40 +lonc=20 +alpha=45 +gamma=45 +no_uoff",
                                  "merc +lat_ts=40 +lon_0=10",
                                  "merc +k=0.97 +lon_0=15",
                                  "lcc +lat_1=40 +lat_0=40 +lon_0=20 +k_0=0.999",
                                  "lcc +lat_1=30 +lat_2=60 +lat_0=25 +lon_0=20 +x_0=600000",
                                  "laea +lat_0=50 +lon_0=20 +x_0=4321000 +y_0=3210000",
                                  "laea +lat_0=90 +lon_0=20",
                                  "aea +lat_1=29 +lat_2=45 +lat_0=23 +lon_0=20",
                                  "aeqd +lat_0=40 +lon_0=20 +x_0=100",
                                  "eqdc +lat_1=30 +lat_2=60 +lon_0=20",
                                  "stere +lat_0=45 +lon_0=20 +k=0.99",
                                  "stere +lat_0=90 +lat_ts=70 +lon_0=-45",
                                  "stere +lat_0=-90 +lat_ts=-71 +lon_0=10",
                                  "stere +lat_0=90 +k=0.994 +lon_0=20 +x_0=2000000",
                                  "sterea +lat_0=52 +lon_0=5 +k=0.9999",
                                  "eqc +lat_ts=30 +lon_0=20",
                                  "cass +lat_0=30 +lon_0=20 +x_0=300",
                                  "gnom +lat_0=40 +lon_0=20",
                                  "mill +lon_0=20",
                                  "ortho +lat_0=40 +lon_0=20",
                                  "poly +lat_0=30 +lon_0=20",
                                  "robin +lon_0=20",
                                  "sinu +lon_0=20",
                                  "vandg +lon_0=20",
                                  "cea +lat_ts=30 +lon_0=20",
                                  "longlat"};
// GeoTIFF has no terms for these.
constexpr const char* kOthers[] = {"moll +lon_0=20",
                                   "eck4",
                                   "bonne +lat_1=40 +lon_0=20",
                                   "somerc +lat_0=46.95 +lon_0=7.44",
                                   "tpeqd +lat_1=30 +lon_1=10 +lat_2=40 +lon_2=50",
                                   "wintri",
                                   "geos +h=35785831 +lon_0=10",
                                   "eqearth",
                                   "krovak"};
constexpr const char* kDatums[] = {"+datum=WGS84",
                                   "+ellps=GRS80",
                                   "+ellps=bessel +towgs84=598.1,73.7,418.2,0.202,0.045,-2.455,6.7",
                                   "+datum=NAD83",
                                   "+a=6370997 +b=6370997",
                                   "+ellps=clrk66 +pm=2.337229167",
                                   "+ellps=intl +towgs84=-87,-98,-121"};
constexpr const char* kUnits[] = {"+units=m", "+units=us-ft", "+units=ft", "+units=km", "+to_meter=20.1168"};

// A CRS without a code lost its projection without a note, wrote false eastings in metres beside a unit of feet (430 km
// off), took kilometres for metres, and wrote a semi-major axis of 0 with a datum shift. NetCDF called every unit but
// feet metres.
TEST(CrsInFiles, EveryKindComesBackTheSame) {
  const TemporaryFolder folder;
  int tried = 0, by_keys = 0;
  const auto one = [&](const std::string& text) {
    Crs crs;
    try {
      crs = Crs::parse(text + " +type=crs");
    } catch (const Error&) {
      return;  // PROJ has no UTM on a sphere
    }
    const Point at = text.find("lat_0=-90") != text.npos  ? Point{30, -75}
                     : text.find("lat_0=90") != text.npos ? Point{30, 75}
                     : text.find("+south") != text.npos   ? Point{16, -35}
                                                          : Point{21, 42};
    const Grid g = grid_in(crs, at);
    by_keys += expect_back(g, folder / "a.tif", text);
    for (const char* name : {"a.asc", "a.nc"})
      if (tried % 3 == 0) expect_back(g, folder / name, text);
    ++tried;
  };
  // Two of the datums and units for each projection, in turn, so that every pair of a datum and a unit comes up.
  for (std::size_t k = 0; k < std::size(kTerms); ++k) {
    const bool degrees = std::string(kTerms[k]) == "longlat";
    for (std::size_t i = 2 * k; i < 2 * k + 2; ++i)
      one(fmt::format("+proj={} {} {}", kTerms[k], kDatums[i % std::size(kDatums)],
                      degrees ? "" : kUnits[i % std::size(kUnits)]));
  }
  EXPECT_EQ(by_keys, tried) << "of those that GeoTIFF has terms for";
  EXPECT_GE(tried, 54);
  for (const char* p : kOthers) one(fmt::format("+proj={} +datum=WGS84", p));
}

TEST(CrsInFiles, RegisteredSystemsComeBackByCodeAndByParts) {
  const TemporaryFolder folder;
  int tried = 0;
  for (int code = 2000; code < 32767 && tried < 60; code += 307) {
    Crs crs;
    try {
      crs = Crs::parse(fmt::format("EPSG:{}", code));
    } catch (const Error&) {
      continue;
    }
    if (!crs.epsg()) continue;
    ++tried;
    const Grid g = relabelled(grid_from_values(utm_frame(5, 4, 10), std::vector<float>(20, 3)), [&](GridInfo& i) {
      i.frame = Frame(crs, 300000, 200000, {10, 10}, 5, 4);
    });
    if (crs.is_geographic()) continue;
    expect_back(g, folder / "a.tif", crs.code());
  }
  EXPECT_GT(tried, 20);
}

TEST(CrsInFiles, AProjectionIsTakenForTheSystemThatStandsOnIt) {
  const Crs utm = Crs::parse("EPSG:32725");
  EXPECT_TRUE(Crs::parse("+proj=utm +zone=25 +south +datum=WGS84").same_place(utm));
  EXPECT_TRUE(Crs::parse("+proj=utm +zone=25 +south +datum=WGS84 +type=crs").same_place(utm));
  EXPECT_EQ(error_of([] { Crs::parse("+proj=nothing"); }), ErrorCode::BadArgument);
}

// Vertical systems that count downwards were named, and their values taken for heights.
TEST(CrsInFiles, SystemsOfDepthsAreTurned) {
  const HeightReference msl = HeightReference::parse("EPSG:5715");
  EXPECT_TRUE(msl.is_depth());
  EXPECT_EQ(msl.epsg(), 5714);
  EXPECT_TRUE(msl == HeightReference::parse("MSL"));
  EXPECT_FALSE(HeightReference::parse("MLLW").is_depth());
  EXPECT_TRUE(HeightReference::parse("EPSG:5866").is_depth());
  EXPECT_TRUE(HeightReference::parse("EPSG:5866") == HeightReference::parse("MLLW"));
  EXPECT_TRUE(HeightReference::parse("MLLW") == HeightReference::parse(HeightReference::parse("MLLW").text()));
  EXPECT_EQ(HeightReference::parse("EPSG:8051").unit(), LengthUnit::Foot);
  const TemporaryFolder folder;
  const Grid depths = grid_from_values(utm_frame(3, 2), {1, 2, 3, 4, 5, kVoid}, {.unit_known = false});
  for (const char* name : {"d.tif", "d.asc", "d.flt"}) {
    write_grid(depths, folder / name, {});
    const GridFile told = open_grid_file(folder / name, {.heights = HeightReference::parse("EPSG:8051")});
    EXPECT_EQ(told.grid.at(1, 0), -2) << name;
    EXPECT_TRUE(told.facts.depths_turned);
    EXPECT_EQ(told.grid.quantity().unit, LengthUnit::Foot);
    EXPECT_FALSE(told.grid.quantity().heights.is_depth());
    // The vertical part of a compound system is an assignment, too.
    const Grid both = open_grid(folder / name, {.crs = Crs::parse("EPSG:32725+5715")});
    EXPECT_EQ(both.at(1, 0), -2);
    EXPECT_EQ(both.quantity().heights.epsg(), 5714);
    // What is written from it are heights, and they come back as such.
    for (const char* again : {"again.tif", "again.asc", "again.nc", "again.flt"}) {
      write_grid(told.grid, folder / again, {.overwrite = true});
      const Grid back = open_grid(folder / again);
      EXPECT_EQ(back.at(1, 0), -2) << again;
      EXPECT_EQ(back.quantity().unit, LengthUnit::Foot) << again;
      EXPECT_TRUE(back.quantity().heights == told.grid.quantity().heights)
          << again << ": " << back.quantity().heights.name();
    }
  }
  EXPECT_EQ(error_of([&] {
              open_grid(folder / "d.tif",
                        {.crs = Crs::parse("EPSG:32725+5773"), .heights = HeightReference::parse("EGM2008")});
            }),
            ErrorCode::BadArgument);
}

// Heights in feet above a reference in metres: the .prj said metres, and won over the file beside it.
TEST(CrsInFiles, FeetAboveAReferenceInMetresStayFeet) {
  const TemporaryFolder folder;
  Quantity q;
  q.unit = LengthUnit::Foot;
  q.unit_known = true;
  q.heights = HeightReference::parse("EPSG:5703");
  const Grid g = grid_from_values(utm_frame(3, 2), {1, 2, 3, 4, 5, 6}, q);
  for (const char* name : {"f1.tif", "f2.asc", "f3.flt", "f4.nc", "f5.bil"}) {
    write_grid(g, folder / name, {});
    const Grid back = open_grid(folder / name);
    EXPECT_EQ(back.quantity().unit, LengthUnit::Foot) << name;
    EXPECT_EQ(back.quantity().heights.epsg(), 5703) << name;
    EXPECT_EQ(back.at(1, 0), 2) << name;
  }
}

}  // namespace
}  // namespace katoptra
