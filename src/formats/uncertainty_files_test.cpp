// The uncertainty in files: written and read back the same, told where it is left out, and what the input does not say.
#include <cmath>
#include <fstream>
#include <limits>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

Grid sure_grid(const Frame& f, LengthUnit unit, unsigned seed) {
  Quantity q = metres_above_egm2008();
  q.unit = unit;
  const Grid heights = rough_grid(f, seed, 6, q);
  std::vector<float> u(static_cast<std::size_t>(f.cols() * f.rows()));
  for (std::size_t i = 0; i < u.size(); ++i) u[i] = i % 31 == 0 ? kVoid : 0.01f * static_cast<float>(1 + i % 97);
  Quantity of{.kind = QuantityKind::Uncertainty, .unit = unit, .unit_known = true};
  return with_error_reach(with_uncertainty(heights, grid_from_values(f, std::move(u), of)), Length::metres(2.5));
}

TEST(UncertaintyFiles, AreReadBackTheSame) {
  TemporaryFolder folder;
  const Frame frames[] = {utm_frame(70, 45), utm_frame(1, 2000),
                          Frame(Crs::wgs84(), -31, -37.5, {0.001, 0.001}, 33, 41)};
  unsigned seed = 0;
  for (const Frame& f : frames)
    for (const LengthUnit unit : {LengthUnit::Metre, LengthUnit::Foot, LengthUnit::UsFoot})
      for (const char* name : {"a.tif", "a.nc", "a.cdf"}) {
        if (f.cols() == 1 && std::string(name) != "a.tif") continue;  // a single column has no cell there
        SCOPED_TRACE(std::string(name) + " " + symbol(unit) + " " + std::to_string(++seed));
        const Grid g = sure_grid(f, unit, seed);
        const WriteReport r = write_grid(g, folder / name, {.overwrite = true, .tile = 32});
        const Grid back = open_grid(folder / name);
        ASSERT_TRUE(back.carries_uncertainty());
        EXPECT_EQ(back.info().error_reach, Length::metres(2.5));
        const Block a = g.read(f.window(), Planes::All), b = back.read(back.frame().window(), Planes::All);
        std::int64_t known = 0;
        for (std::int64_t row = 0; row < f.rows(); ++row)
          for (std::int64_t c = 0; c < f.cols(); ++c) {
            ASSERT_TRUE(same_bits(a.at(c, row), b.at(c, row)));
            ASSERT_TRUE(same_bits(a.uncertainty_row(row)[c], b.uncertainty_row(row)[c])) << c << ", " << row;
            known += !std::isnan(a.uncertainty_row(row)[c]);
          }
        EXPECT_EQ(r.uncertainty.cells, known);
        EXPECT_GT(r.uncertainty.highest, r.uncertainty.rms);
        // The plane alone, by its name, and without it.
        const Grid alone = open_grid(folder / name, {.band = "uncertainty"});
        EXPECT_EQ(alone.quantity().kind, QuantityKind::Uncertainty);
        EXPECT_EQ(unit_name(alone.quantity()), symbol(unit));
        EXPECT_TRUE(same_bits(all_values(alone).back(), b.uncertainty_row(f.rows() - 1)[f.cols() - 1]));
        const auto bare = folder / ("without_" + std::string(name));
        write_grid(g, bare, {.overwrite = true, .uncertainty = false});
        EXPECT_FALSE(open_grid(bare).carries_uncertainty());
      }
}

TEST(UncertaintyFiles, WholeNumbersBecomeFloatsAndAreSaid) {
  TemporaryFolder folder;
  const Grid whole =
      grid_from_values(utm_frame(3, 2), {1, 2, 3, 4, 5, kVoid}, metres_above_egm2008(), SampleType::Int16);
  const Grid g = with_uncertainty(whole, {.constant = Length::metres(0.5)});
  const WriteReport r = write_grid(g, folder / "a.tif");
  EXPECT_EQ(r.type, SampleType::Float32);
  EXPECT_NE(r.info.notes.back().find("int16"), std::string::npos);
  EXPECT_EQ(write_grid(g, folder / "b.tif", {.uncertainty = false}).type, SampleType::Int16);
  // Beside one another in NetCDF.
  EXPECT_EQ(write_grid(g, folder / "c.nc").type, SampleType::Int16);
  EXPECT_TRUE(open_grid(folder / "c.nc").carries_uncertainty());
}

TEST(UncertaintyFiles, OtherFormatsSayThatItIsLeftOut) {
  TemporaryFolder folder;
  const Grid g = sure_grid(utm_frame(20, 10), LengthUnit::Metre, 1);
  for (const char* name : {"a.asc", "b.flt", "c.bil", "d.xyz"}) {
    const WriteReport r = write_grid(g, folder / name);
    ASSERT_FALSE(r.info.notes.empty()) << name;
    EXPECT_NE(r.info.notes.back().find("left out"), std::string::npos) << name;
    EXPECT_EQ(r.uncertainty.cells, 0);
  }
  EXPECT_TRUE(write_grid(without_uncertainty(g), folder / "e.asc").info.notes.empty());
}

TEST(UncertaintyFiles, WhatTheInputDoesNotSay) {
  TemporaryFolder folder;
  const Frame f = utm_frame(20, 10);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  write_grid(rough_grid(f, 1, 3, feet), folder / "dem.tif");
  write_grid(grid_from_values(f, std::vector<float>(200, 2),
                              {.kind = QuantityKind::Uncertainty, .unit = LengthUnit::Foot, .unit_known = true}),
             folder / "u.tif");
  const auto first = [&](const OpenOptions& o) {
    const Grid g = open_grid(folder / "dem.tif", o);
    EXPECT_TRUE(g.carries_uncertainty());
    const Block b = g.read(f.window(), Planes::All);
    for (std::int64_t i = 0; i < 200; ++i)
      if (!std::isnan(b.row(0)[i])) return b.uncertainty_row(0)[i];
    return kVoid;
  };
  EXPECT_FALSE(open_grid(folder / "dem.tif").carries_uncertainty());
  EXPECT_NEAR(first({.uncertainty = {.text = "0.3048m"}}), 1, 1e-6);
  // A bare number might be meant in metres or in the feet of the heights: it is refused.
  std::string bare;
  EXPECT_EQ(error_of([&] { first({.uncertainty = {.text = "0.5"}}); }, &bare), ErrorCode::BadArgument);
  EXPECT_NE(bare.find("such as 0.05m"), std::string::npos) << bare;
  EXPECT_NEAR(first({.uncertainty = {.text = (folder / "u.tif").string(), .confidence = 95}}), 2 / kTwoSided95, 1e-6);
  EXPECT_EQ(open_grid(folder / "dem.tif", {.uncertainty = {.text = "1ft", .reach = 3_m}}).info().error_reach, 3_m);
  EXPECT_FALSE(open_grid(folder / "dem.tif", {.uncertainty = {.reach = 3_m}}).info().error_reach) << "of nothing";
  std::string text;
  EXPECT_EQ(error_of([&] { first({.uncertainty = {.text = (folder / "no.tif").string()}}); }, &text),
            ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { first({.uncertainty = {.text = "band:2"}}); }), ErrorCode::BadArgument);
  // What a file says of itself stays, and is one standard uncertainty in files of ours.
  write_grid(sure_grid(f, LengthUnit::Metre, 4), folder / "sure.tif");
  const Grid sure = open_grid(folder / "sure.tif", {.uncertainty = {.text = "9m", .confidence = 95}});
  EXPECT_NE(sure.info().notes.back().find("of its own"), std::string::npos);
  const Block own = sure_grid(f, LengthUnit::Metre, 4).read(f.window(), Planes::All),
              read = sure.read(f.window(), Planes::All);
  for (std::int64_t i = 0; i < 200; ++i) EXPECT_TRUE(same_bits(own.uncertainty_row(0)[i], read.uncertainty_row(0)[i]));
}

// NetCDF has no description of ours, and is ours all the same: it is not taken for 95 %.
TEST(UncertaintyFiles, OfOurOwnAreNotScaledByTheConfidenceOfOthers) {
  TemporaryFolder folder;
  const Frame f = utm_frame(20, 10);
  const Grid g = with_uncertainty(rough_grid(f, 1, 0), {.constant = Length::metres(0.2)});
  for (const char* name : {"a.tif", "a.nc", "a.cdf"}) {
    write_grid(g, folder / name);
    const Grid back = open_grid(folder / name, {.uncertainty = {.confidence = 95}});
    EXPECT_FLOAT_EQ(back.read(f.window(), Planes::All).uncertainty_row(0)[0], 0.2f) << name;
  }
}

TEST(UncertaintyFiles, AnOrderOfSurveyIsToldAt95WhateverOthersAre) {
  TemporaryFolder folder;
  const Frame f = utm_frame(8, 6);
  write_grid(grid_from_values(f, std::vector<float>(48, -20), metres_above_egm2008()), folder / "floor.tif");
  for (const double confidence : {68.0, 95.0}) {
    const Grid g = open_grid(folder / "floor.tif", {.uncertainty = {.text = "s44 special", .confidence = confidence}});
    EXPECT_NEAR(g.read(f.window(), Planes::All).uncertainty_row(0)[0] * kTwoSided95, std::hypot(0.25, 0.15), 2e-3);
  }
  std::string said;
  EXPECT_EQ(error_of([&] { open_grid(folder / "floor.tif", {.uncertainty = {.text = "s44 1c"}}); }, &said),
            ErrorCode::BadArgument);
  EXPECT_NE(said.find("s44 1a"), std::string::npos) << said;
}

TEST(UncertaintyFiles, WhatIsNotSaidIsAsTheRecordHasIt) {
  const StatedUncertainty record{.text = "1m", .confidence = 95, .reach = 3_m};
  EXPECT_EQ(StatedUncertainty{}.otherwise(record), record);
  EXPECT_EQ((StatedUncertainty{.text = "2m"}.otherwise(record)),
            (StatedUncertainty{.text = "2m", .confidence = 68, .reach = 3_m}));
  EXPECT_EQ((StatedUncertainty{.reach = 0_m}.otherwise(record)),
            (StatedUncertainty{.text = "1m", .confidence = 95, .reach = 0_m}));
}

// A damaged second band is told when it is read, and troubles nobody else.
TEST(UncertaintyFiles, ANegativeOneIsRefusedWithItsCell) {
  TemporaryFolder folder;
  const Frame f = utm_frame(4, 4);
  std::vector<float> u(16, 0.1f);
  u[6] = -1;
  const Grid g = with_uncertainty(rough_grid(f, 1, 0), grid_from_values(f, u, {.kind = QuantityKind::Uncertainty}));
  std::string text;
  EXPECT_EQ(error_of([&] { write_grid(g, folder / "a.tif"); }, &text), ErrorCode::BadFile);
  EXPECT_NE(text.find("column 2, row 1"), std::string::npos) << text;
  EXPECT_EQ(folder.files(), 0u) << "nothing half-written stays";
  EXPECT_NO_THROW(write_grid(g, folder / "a.tif", {.uncertainty = false}));
}

}  // namespace
}  // namespace katoptra
