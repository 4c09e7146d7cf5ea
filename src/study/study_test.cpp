// The example study against the truth it was drawn from, and study files that are wrong.
#include "katoptra/study/study.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/progress.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "marrowick.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

const fs::path kDemo = KATOPTRA_DEMO_DATA;

class Marrowick : public ::testing::Test {
 protected:
  static void SetUpTestSuite() {
    folder_ = new TemporaryFolder;
    study_ = new Study(read_study(kDemo / "study.toml"));
    run_ = new StudyRun(run_study(*study_, {.folder = *folder_ / "out", .run = {.threads = 2}, .say = {}}));
  }
  static void TearDownTestSuite() {
    delete run_;
    delete study_;
    delete folder_;
  }
  static bool has_finding(const std::string& code, const std::string& file) {
    for (const auto* list : {&run_->source_findings, &run_->check.findings})
      for (const Finding& f : *list)
        if (f.code == code && f.file.find(file) != std::string::npos) return true;
    return false;
  }
  static bool left_out(const std::string& words) {
    return std::any_of(run_->plan.left_out.begin(), run_->plan.left_out.end(),
                       [&](const std::string& s) { return s.find(words) != s.npos; });
  }
  static bool has_note(const std::string& words) {
    const auto& notes = run_->surface.info.notes;
    return std::any_of(notes.begin(), notes.end(), [&](const std::string& s) { return s.find(words) != s.npos; });
  }
  static TemporaryFolder* folder_;
  static Study* study_;
  static StudyRun* run_;
};
TemporaryFolder* Marrowick::folder_ = nullptr;
Study* Marrowick::study_ = nullptr;
StudyRun* Marrowick::run_ = nullptr;

TEST_F(Marrowick, TheSurfaceIsTrueToTheIsland) {
  const Grid g = open_grid(*folder_ / "out/surface.tif");
  const Block b = g.read(g.frame().window(), Planes::ValuesAndOrigin);
  double squares[8] = {}, fine = 0;
  std::int64_t n[8] = {}, n_fine = 0;
  for (std::int64_t r = 0; r < b.window().rows; ++r)
    for (std::int64_t c = 0; c < b.window().cols; ++c) {
      if (std::isnan(b.at(c, r))) continue;
      const Point p = g.frame().centre(static_cast<double>(c), static_cast<double>(r));
      const double d = static_cast<double>(b.at(c, r)) - marrowick::ground_utm(p.x, p.y);
      const auto how = static_cast<std::size_t>(how_of(b.origin_row(r)[c]));
      squares[how] += d * d;
      ++n[how];
      const auto& source = g.info().sources[source_of(b.origin_row(r)[c]) - 1];
      if (how == static_cast<std::size_t>(How::Measured) && source.survey == "Marrowick ground 2022") {
        fine += d * d;
        ++n_fine;
      }
    }
  auto rmse = [&](How h) {
    return std::sqrt(squares[static_cast<std::size_t>(h)] / static_cast<double>(n[static_cast<std::size_t>(h)]));
  };
  EXPECT_GT(n_fine, 400000);
  EXPECT_LT(std::sqrt(fine / static_cast<double>(n_fine)), 0.07);  // 3 cm of noise, one spike of 35 m, six stripes
  EXPECT_LT(rmse(How::Resampled), 0.12);
  EXPECT_LT(rmse(How::Blended), 0.07);
  EXPECT_LT(rmse(How::Filled), 0.25);
  EXPECT_LT(rmse(How::Interpolated), 0.1);
  // The report's own figures are these figures.
  ASSERT_TRUE(run_->reference);
  for (const DifferenceClass& k : run_->reference->classes)
    if (k.name == "measured") {
      EXPECT_NEAR(k.statistics.rmse, rmse(How::Measured), 0.005);
    }
  ASSERT_TRUE(run_->control && run_->control->asprs);
  EXPECT_LT(run_->control->all.rmse, 0.05);
  EXPECT_TRUE(run_->control->asprs->enough);
  EXPECT_EQ(run_->control->asprs->class_cm, 5);
}

TEST_F(Marrowick, EveryPlantedFlawIsNamed) {
  EXPECT_TRUE(has_finding("spike", "sheet_b2.tif"));
  EXPECT_TRUE(has_finding("stripe", "sheet_a2.tif"));
  EXPECT_TRUE(has_finding("no-crs", "sheet_c1.tif"));
  EXPECT_TRUE(has_finding("damaged", "ground_nw.tif"));
  EXPECT_TRUE(has_finding("mixed-units", "sheet_b1.tif"));
  // Its surveys are levelled, so nothing is left for the check to find.
  EXPECT_FALSE(has_finding("offset", "Marrowick ground 2022"));
  ASSERT_TRUE(run_->plan.levelling);
  for (const SurveyLevel& l : run_->plan.levelling->surveys)
    if (l.name == "Marrowick ground 2016") {
      EXPECT_NEAR(l.offset.metres(), -0.18, 0.002);
      EXPECT_LT(l.error.metres(), 0.002);
    }
  EXPECT_TRUE(left_out("sheet_c3.tif: restricted"));
  // The older survey is above the ellipsoid, and comes down by its own separation.
  EXPECT_TRUE(has_note("coast.tif: separation ellipsoid_to_egm2008.asc added"));
  EXPECT_TRUE(left_out("ground_nw.tif: damaged"));
  EXPECT_TRUE(has_note("sheet_b1.tif: heights converted from ft to m"));
  EXPECT_TRUE(run_->check.failed());
  // Nothing else is accused.
  for (const Finding& f : run_->source_findings)
    EXPECT_TRUE(f.file.find("sheet_b2") != f.file.npos || f.file.find("sheet_a2") != f.file.npos ||
                f.code == "no-crs" || f.code == "damaged" || f.code == "mixed-units")
        << f.file << ": " << f.message;
}

TEST_F(Marrowick, TheAreaIsCoveredAndTheGapBetweenShoreAndSonarClosed) {
  for (const Finding& f : run_->check.findings)
    if (f.code == "coverage") {
      EXPECT_EQ(*f.measure, 1);
    }
  // Soundings closed most of the strip; where even they have nothing, it is filled.
  EXPECT_GT(run_->surface.by_how[static_cast<int>(How::Interpolated)], 50000);
  EXPECT_GT(run_->surface.by_how[static_cast<int>(How::Filled)], 1000);
  EXPECT_EQ(run_->plan.shortlist.covered_fraction, 1);
}

// From what the surveys state to the map, the section and the volume.
TEST_F(Marrowick, ItSaysHowSureItIs) {
  EXPECT_TRUE(std::filesystem::exists(*folder_ / "out/sureness.png"));
  const std::string section = read_text_file(*folder_ / "out/bridge.csv");
  EXPECT_NE(section.substr(0, section.find('\n')).find("uncertainty"), std::string::npos) << section.substr(0, 80);
  ASSERT_EQ(run_->volumes.size(), 1u);
  ASSERT_EQ(run_->volumes[0].second.size(), 2u);
  // The truth lies within what is stated, but for the bird and the stripes that nobody took out.
  std::vector<float> z;
  const Grid g = open_grid(*folder_ / "out/surface.tif");
  const Frame& f = g.frame();
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      z.push_back(static_cast<float>(marrowick::ground_utm(p.x, p.y)));
    }
  const auto truth = volumes_at(grid_from_values(f, std::move(z), g.quantity()), {0, 2}, &study_->area);
  for (std::size_t i = 0; i < 2; ++i) {
    const LevelVolumes& v = run_->volumes[0].second[i];
    EXPECT_GT(v.give_or_take_above, 0);
    EXPECT_GT(v.known_below, 0.99);
    EXPECT_NEAR(v.volume_above / truth[i].volume_above, 1, 2e-4);
    EXPECT_NEAR(v.volume_below / truth[i].volume_below, 1, 2e-3);
  }
  const std::string csv = read_text_file(*folder_ / "out/volumes.csv");
  EXPECT_NE(csv.find("give_or_take_above_m3"), std::string::npos);
  EXPECT_NE(read_text_file(run_->report).find("<h2>Volumes</h2>"), std::string::npos);
  EXPECT_NE(read_text_file(run_->report).find("Brought to one level"), std::string::npos);
}

TEST_F(Marrowick, EverythingIsThereAndOnRecord) {
  for (const char* name : {"surface.tif",   "surface.lineage.tif", "surface.lineage.csv",
                           "shortlist.csv", "shortlist.geojson",   "findings.geojson",
                           "map.png",       "bridge.png",          "bridge.csv",
                           "hillshade.tif", "slope.tif",           "bends.tif",
                           "ridges.tif",    "contours.gpkg",       "contours.kmz",
                           "contours.dxf",  "bridge.dxf",          "wetness.tif",
                           "ponds.gpkg",    "basins.gpkg",         "streams.gpkg",
                           "water.png",     "sheet.pdf",           "inlet.kmz",
                           "inlet.stl",     "across.pdf",          "depths.gpkg",
                           "report.html",   "view.html",           "coverage.html",
                           "run.json"})
    EXPECT_GT(fs::file_size(*folder_ / ("out/" + std::string(name))), 500u) << name;
  const auto record = nlohmann::json::parse(read_text_file(*folder_ / "out/run.json"));
  EXPECT_EQ(record["inputs"].size(), 27u);
  // Lines and areas that a product names are inputs, too.
  for (const char* name :
       {"area.geojson", "transect.geojson", "culverts.geojson", "ponds.geojson", "control.csv", "harbour.toml"})
    EXPECT_EQ(std::count_if(record["inputs"].begin(), record["inputs"].end(),
                            [&](const auto& i) { return i["path"].template get<std::string>().ends_with(name); }),
              1)
        << name;
  EXPECT_EQ(record["inputs"][0]["sha256"].get<std::string>().size(), 64u);
  EXPECT_GE(record["times"].size(), 10u);
  EXPECT_EQ(record["parameters"]["crs"], "EPSG:32725");
  const std::string report = read_text_file(*folder_ / "out/report.html");
  EXPECT_NE(report.find("RMSE"), report.npos);
  // Nothing is loaded from elsewhere.
  for (const char* where : {"src=\"http", "href=\"http", "url(http", "@import"})
    EXPECT_EQ(report.find(where), report.npos) << where;
}

TEST_F(Marrowick, ASecondRunIsTheSameAndTheFirstIsNotOverwritten) {
  EXPECT_EQ(error_of([&] { run_study(*study_, {.folder = *folder_ / "out", .run = {}, .say = {}}); }), ErrorCode::Io);
  run_study(*study_, {.folder = *folder_ / "again", .run = {.threads = 1, .memory = 64u << 20}, .say = {}});
  for (const char* name : {"surface.tif", "surface.lineage.tif", "contours.dxf", "bridge.csv", "map.png",
                           "contours.gpkg", "wetness.tif", "water.png", "view.html", "coverage.html"})
    EXPECT_EQ(read_text_file(*folder_ / ("out/" + std::string(name))),
              read_text_file(*folder_ / ("again/" + std::string(name))))
        << name;
}

TEST(MarrowickTruth, OrbitTilesAgreeWhereTheyMeet) {
  const Grid west = open_grid(kDemo / "orbit-2000/S38W032.hgt.zip"),
             east = open_grid(kDemo / "orbit-2000/S38W031.hgt.zip");
  const Grid both = mosaic({west, east});
  EXPECT_EQ(both.frame().cols(), 7201);
  EXPECT_EQ(both.info().type, SampleType::Int16);
  EXPECT_TRUE(both.info().notes.empty());
  // The shared column.
  for (std::int64_t r = 1800; r < 2200; r += 13) EXPECT_TRUE(same_bits(west.at(3600, r), east.at(0, r)));
}

TEST(StudyFile, MistakesAreNamedWithTheirLine) {
  TemporaryFolder folder;
  const std::string good = "[area]\nbox = \"-31.01,-37.56,-31.0,-37.55\"\n[[source]]\nfolder = \".\"\n";
  const std::pair<const char*, const char*> cases[] = {
      {"[area\n", "line 1"},
      {"[[source]]\nfolder = \".\"\n", "no [area]"},
      {"[area]\nbox = \"1,2,3\"\n[[source]]\nfolder=\".\"\n", "line 2"},
      {"[area]\ncircle = \"0,0,5m\"\n", "no [[source]]"},
      {"[area]\ncircle = \"0,0,5m\"\nmargn = \"5m\"\n[[source]]\nfolder=\".\"\n", "'margn' is not known"},
      {"[area]\ncircle = \"0,0,5m\"\nmargin = 5\n[[source]]\nfolder=\".\"\n", "must be text"}};
  int n = 0;
  for (const auto& [text, words] : cases) {
    const auto path = folder / (std::to_string(n++) + ".toml");
    write_text_file(path, text);
    std::string said;
    EXPECT_EQ(error_of([&] { read_study(path); }, &said), ErrorCode::BadFile) << text;
    EXPECT_NE(said.find(words), said.npos) << said;
  }
  for (const char* more :
       {"[[product]]\nkind = \"painting\"\nfile = \"a.png\"\n", "[[product]]\nkind = \"map\"\nfile = \"../a.png\"\n",
        "[[product]]\nkind = \"section\"\nfile = \"a.png\"\n", "[frame]\ncell = \"one metre\"\n",
        "[mosaic]\nprefer = [\"prettiest\"]\n", "[nonsense]\n"}) {
    const auto path = folder / (std::to_string(n++) + ".toml");
    write_text_file(path, good + more);
    EXPECT_EQ(error_of([&] { read_study(path); }), ErrorCode::BadFile) << more;
  }
  write_text_file(folder / "good.toml", good);
  EXPECT_EQ(error_of([&] { plan_study(read_study(folder / "good.toml")); }), ErrorCode::BadArgument);  // no tiles there
}

// Points are gridded when their surface is read, in the middle of what tells how far it is: that hears when to stop,
// too.
TEST(Study, PointsThatAreGriddedLateHearWhenToStop) {
  TemporaryFolder folder;
  std::filesystem::create_directories(folder / "data");
  write_grid(rough_grid(utm_frame(140, 120), 1, 5), folder / "data/one.tif", {.date = "2020-01-01", .run = {}});
  std::string table = "x,y,z\n";
  for (int i = 0; i < 900; ++i)
    table += fmt::format("{},{},{}\n", 676020 + 3 * (i % 30), 5841900 + 2 * (i / 30), i % 7);
  write_text_file(folder / "points.csv", table);
  write_text_file(folder / "study.toml",
                  "[area]\nbox = \"676020,5841900,676100,5841950@EPSG:32725\"\n[[source]]\nfolder = \"data\"\n"
                  "[[points]]\nfile = \"points.csv\"\ncrs = \"EPSG:32725\"\nheights = \"EGM2008\"\ncell = \"0.5m\"\n"
                  "[frame]\ncrs = \"EPSG:32725\"\n[mosaic]\nprefer = [\"finest\"]\n");
  const Study study = read_study(folder / "study.toml");
  Progress heard;
  const StudyPlan plan = plan_study(study, {.run = {.progress = &heard}});
  heard.cancel();
  EXPECT_EQ(error_of([&] { plan.surface.read(plan.frame.window()); }), ErrorCode::Cancelled);
  // Another look at the same finds them gridded.
  const StudyPlan again = plan_study(study);
  EXPECT_FALSE(std::isnan(again.surface.read(again.frame.window()).at(30, 20)));
}

// From the record of a survey, or the study file, into the surface and its section; closed voids are sure to what
// trials say.
TEST(Study, CarriesHowSureItsSourcesAre) {
  TemporaryFolder folder;
  std::filesystem::create_directories(folder / "data");
  write_grid(rough_grid(utm_frame(140, 120), 1, 5), folder / "data/one.tif", {.date = "2020-01-01", .run = {}});
  const auto run = [&](const std::string& record, const std::string& source, const std::string& out) {
    write_text_file(folder / "data/survey.toml", "name = \"One\"\n" + record, {.overwrite = true});
    write_text_file(folder / "study.toml",
                    "[area]\nbox = \"676010,5841890,676130,5841990@EPSG:32725\"\n[[source]]\nfolder = \"data\"\n" +
                        source +
                        "[frame]\ncrs = \"EPSG:32725\"\n[fill]\nmethod = \"membrane\"\n[[product]]\nkind = "
                        "\"section\"\nfile = \"s.csv\"\nline = \"line.geojson\"\n",
                    {.overwrite = true});
    write_layer({.name = "line",
                 .crs = Crs::parse("EPSG:32725"),
                 .features = {{LineString{{676020, 5841900}, {676120, 5841980}}, {}}}},
                folder / "line.geojson", {.overwrite = true});
    const Study study = read_study(folder / "study.toml");
    return run_study(study, {.folder = folder / out});
  };
  const auto sure = [&](const std::string& out) { return open_grid(folder / out / "surface.tif"); };
  run("", "", "a");
  EXPECT_FALSE(sure("a").carries_uncertainty());
  const StudyRun by_record = run("uncertainty = \"0.2m\"\nerror_reach = \"0m\"\n", "", "b");
  ASSERT_TRUE(sure("b").carries_uncertainty());
  EXPECT_EQ(sure("b").info().error_reach, Length());
  EXPECT_GT(by_record.fill.voids_by_membrane, 0);
  const Block b = sure("b").read(sure("b").frame().window(), Planes::All);
  std::int64_t stated = 0, filled = 0;
  for (std::int64_t r = 0; r < sure("b").frame().rows(); ++r)
    for (std::int64_t c = 0; c < sure("b").frame().cols(); ++c) {
      if (how_of(b.origin_row(r)[c]) == How::Measured) {
        EXPECT_FLOAT_EQ(b.uncertainty_row(r)[c], 0.2f);
      }
      stated += how_of(b.origin_row(r)[c]) == How::Measured;
      filled += how_of(b.origin_row(r)[c]) == How::Filled && b.uncertainty_row(r)[c] > 0;
    }
  EXPECT_GT(stated, 5000);
  EXPECT_GT(filled, 20);
  EXPECT_NE(read_text_file(folder / "b/s.csv").find("uncertainty"), std::string::npos);
  // The study file goes before the record.
  run("uncertainty = \"0.2m\"\n", "uncertainty = \"0.5m\"\nconfidence = 95\n", "c");
  const Block c = sure("c").read(sure("c").frame().window(), Planes::All);
  EXPECT_NEAR(c.uncertainty_row(50)[60] > 0 ? c.uncertainty_row(50)[60] : c.uncertainty_row(10)[10], 0.5 / kTwoSided95,
              0.2);
  for (const char* bad :
       {"uncertainty = \"lots\"\n", "uncertainty = \"1m\"\nconfidence = 50\n", "uncertainty = \"gone.tif\"\n"}) {
    std::string text;
    EXPECT_EQ(error_of([&] { run("", bad, "d"); }, &text), ErrorCode::BadFile) << bad;
    EXPECT_NE(text.find("study.toml"), std::string::npos) << text;
  }
}

// Water is laid flat before voids are closed; its record is left, told, and taken over when nothing has changed.
TEST(Study, LaysWaterFlat) {
  TemporaryFolder folder;
  std::filesystem::create_directories(folder / "data");
  const Frame f = utm_frame(140, 120);
  write_grid(grid_from_function(
                 f,
                 [](double x, double y) {
                   const double d = std::hypot(x - 676070, y - 5841940) - 25;
                   return d < -15 ? std::nan("") : d < 0 ? 7 + 0.02 * std::sin(x + 3 * y) : 7 + 0.1 * d;
                 },
                 metres_above_egm2008()),
             folder / "data/one.tif", {.date = "2020-01-01", .run = {}});
  Layer pond{.name = "pond", .crs = f.crs(), .features = {}};
  pond.features.push_back({MultiPolygon{to_polygon({676040, 5841910, 676100, 5841970})}, {{"name", "Mill pond"}}});
  write_layer(pond, folder / "pond.gpkg");
  const std::string text =
      "[area]\nbox = \"676010,5841890,676130,5841990@EPSG:32725\"\n[[source]]\nfolder = \"data\"\n"
      "[frame]\ncrs = \"EPSG:32725\"\n[water]\nfile = \"pond.gpkg\"\nkind = \"lake\"\n";
  write_text_file(folder / "study.toml", text);
  const StudyRun run = run_study(read_study(folder / "study.toml"), {.folder = folder / "out"});
  ASSERT_EQ(run.water.size(), 1u);
  EXPECT_NEAR(run.water[0].level, 7, 0.01);
  EXPECT_NEAR(run.water[0].area, M_PI * 26 * 26, 150);
  const Grid surface = open_grid(folder / "out/surface.tif");
  EXPECT_EQ(surface.at(60, 50), static_cast<float>(run.water[0].level)) << "void before, and not left to the filling";
  EXPECT_NE(read_text_file(folder / "out/report.html").find("Mill pond"), std::string::npos);
  EXPECT_NE(read_text_file(folder / "out/run.json").find("Mill pond"), std::string::npos);
  EXPECT_TRUE(std::filesystem::exists(folder / "out/surface.water.before.tif"));
  const Layer record = read_layer(folder / "out/surface.water.gpkg");
  const Grid back =
      restored(surface, water_bodies_of(record, surface), open_grid(folder / "out/surface.water.before.tif"));
  EXPECT_TRUE(std::isnan(back.at(60, 50)));

  const StudyRun again =
      run_study(read_study(folder / "study.toml"), {.folder = folder / "again", .earlier = folder / "out"});
  EXPECT_EQ(again.kept.size(), 1u);
  ASSERT_EQ(again.water.size(), 1u);
  EXPECT_EQ(again.water[0].level, run.water[0].level);
  EXPECT_EQ(again.water[0].name, "Mill pond");
  EXPECT_TRUE(std::filesystem::exists(folder / "again/surface.water.gpkg"));

  for (const char* bad : {"[water]\n", "[water]\nkind = \"pool\"\nfind = true\n", "[water]\nsea = \"wet\"\n",
                          "[water]\nfile = \"gone.gpkg\"\n", "[water]\ndepth = 3\n"}) {
    const std::string cut = text.substr(0, text.find("[water]"));
    EXPECT_THROW(read_study_text(cut + bad, folder / "study.toml"), Error) << bad;
  }
}

}  // namespace
}  // namespace katoptra
