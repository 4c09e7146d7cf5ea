// Sheets against the whole they are parts of: every cell once, to the last bit, whatever ended a run before.
#include "katoptra/study/sheets.hpp"

#include <algorithm>
#include <fstream>
#include <set>

#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "played_ranks.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

std::vector<fs::path> tiffs(const fs::path& folder) {
  std::vector<fs::path> out;
  for (const auto& e : fs::directory_iterator(folder))
    if (e.path().extension() == ".tif" && e.path().string().find(".lineage") == std::string::npos)
      out.push_back(e.path());
  std::sort(out.begin(), out.end());
  return out;
}

// Two surveys with voids, their uncertainty and the lineage of their cells.
Grid surface() {
  const Grid a = relabelled(rough_grid(utm_frame(150, 163), 1), [](GridInfo&i) { i.sources[0].name = "a.tif"; }),
             b = relabelled(rough_grid(utm_frame(130, 140, 1, 676081, 5842010), 2),
                            [](GridInfo&i) { i.sources[0].name = "b.tif"; });
  return mosaic({with_uncertainty(a, {.constant = Length::metres(0.05)}),
                 with_uncertainty(b, {.constant = Length::metres(0.2)})});
}

SheetsOptions of_size(double metres, const std::string& made_from = "these") {
  SheetsOptions o;
  o.edge = Length::metres(metres);
  o.made_from = made_from;
  o.write.tile = 32;
  o.write.lineage = true;
  return o;
}

// What is asked of the sheets of any frame: each cell in one of them, no two names alike, and edges where they should
// be, to half a cell.
void expect_cover(const Frame& f, const CellEdge& edge, double units) {
  const std::vector<Sheet> sheets = sheets_of(f, edge);
  std::vector<int> seen(static_cast<std::size_t>(f.cols() * f.rows()), 0);
  std::set<std::string> names;
  for (const Sheet& s : sheets) {
    ASSERT_TRUE(f.window().contains(s.window)) << s.name;
    ASSERT_FALSE(s.window.empty()) << s.name;
    EXPECT_TRUE(names.insert(s.name).second) << s.name;
    for (std::int64_t r = 0; r < s.window.rows; ++r)
      for (std::int64_t c = 0; c < s.window.cols; ++c)
        ++seen[static_cast<std::size_t>((s.window.row + r) * f.cols() + s.window.col + c)];
    const Bounds box = f.sub(s.window).bounds();
    const std::pair<double, double> ends[] = {
        {box.west, f.west()}, {box.east, f.east()}, {box.south, f.south()}, {box.north, f.north()}};
    for (const auto& [at, rim] : ends) {
      const double off = std::abs(at - units * std::round(at / units));
      EXPECT_TRUE(std::abs(at - rim) < 1e-9 * std::abs(rim) || off <= 0.5001 * f.cell().x) << s.name << ": " << at;
    }
    int east = 0, north = 0;
    char ew = 0, ns = 0;
    ASSERT_EQ(std::sscanf(s.name.c_str(), "%c%d_%c%d", &ew, &east, &ns, &north), 4) << s.name;
    const double x = (ew == 'w' ? -east : east) * units, y = (ns == 's' ? -north : north) * units;
    const Point middle = box.centre();
    EXPECT_TRUE(x <= middle.x && middle.x <= x + units) << s.name << ": " << middle.x;
    EXPECT_TRUE(y <= middle.y && middle.y <= y + units) << s.name << ": " << middle.y;
  }
  EXPECT_EQ(std::count(seen.begin(), seen.end(), 1), f.cols() * f.rows());
}

TEST(Sheets, CoverEveryFrameOnce) {
  std::mt19937 random(11);
  std::uniform_real_distribution<double> any(0, 1);
  for (int i = 0; i < 200; ++i) {
    SCOPED_TRACE(i);
    const auto cols = static_cast<std::int64_t>(1 + random() % 150),
               rows = static_cast<std::int64_t>(1 + random() % 150);
    const double times = 16 + 60 * any(random);
    if (i % 3 == 0) {
      const double cell = 0.5 + any(random), edge = cell * times;
      const Frame f(Crs::parse("EPSG:32725"), 100000 * any(random), 100000 * any(random) - 50000, {cell, cell}, cols,
                    rows);
      expect_cover(f, Length::metres(edge), edge);
    } else if (i % 3 == 1) {
      // A system that counts in feet, with a size in metres.
      const double edge = 3 * times;
      const Frame f(Crs::parse("EPSG:2263"), 900000 + 1000 * any(random), 200000, {3, 3}, cols, rows);
      expect_cover(f, Length::of(edge, LengthUnit::UsFoot), edge);
    } else {
      // Across the antimeridian, and south and north of the equator.
      const double cell = 1.0 / 1200, edge = cell * times;
      const Frame f(Crs::wgs84(), 179.97 + 0.02 * any(random), 0.05 * any(random), {cell, cell}, cols, rows);
      expect_cover(f, Angle::degrees(edge), edge);
    }
  }
  // Nodes of two degrees, which reach half a cell beyond them.
  const Frame nodes(Crs::wgs84(), -32 - 0.5 / 120, 1 + 0.5 / 120, {1.0 / 120, 1.0 / 120}, 241, 121);
  const std::vector<Sheet> two = sheets_of(nodes, Angle::degrees(1));
  ASSERT_EQ(two.size(), 2u);
  EXPECT_EQ(two[0].name, "w32_n0");
  EXPECT_EQ(two[1].name, "w31_n0");
  EXPECT_EQ(two[0].window.cols + two[1].window.cols, 241);
  expect_cover(nodes, Angle::degrees(1), 1);
  // Edges that are multiples already have no sheet of nothing beside them.
  const std::vector<Sheet> four = sheets_of(utm_frame(200, 200, 1, 676000, 5842000), Length::metres(100));
  ASSERT_EQ(four.size(), 4u);
  EXPECT_EQ(four[0].name, "e6760_n58419");
  EXPECT_EQ(four[3].name, "e6761_n58418");
  EXPECT_EQ(four[3].window, (Window{100, 100, 100, 100}));
}

TEST(Sheets, AreTheWholeToTheLastBit) {
  const Grid whole = surface();
  for (const double size : {61.0, 100.0, 1000.0}) {
    SCOPED_TRACE(size);
    const TemporaryFolder folder;
    const SheetsReport r = write_sheets(whole, folder / "s/ground.tif", of_size(size));
    EXPECT_EQ(r.made, static_cast<std::int64_t>(r.sheets.size()));
    EXPECT_EQ(r.missing, 0);
    EXPECT_EQ(r.cells, whole.frame().cols() * whole.frame().rows());
    std::vector<Grid> parts;
    for (const fs::path& p : tiffs(folder / "s")) parts.push_back(open_grid(p));
    EXPECT_EQ(static_cast<std::int64_t>(parts.size()), r.made - r.without_value);
    const Grid again = mosaic(parts);
    const auto there = whole.frame().window_of(again.frame());
    ASSERT_TRUE(there);
    const Block a = whole.read(whole.frame().window(), Planes::All),
                b = again.read({-there->col, -there->row, whole.frame().cols(), whole.frame().rows()}, Planes::All);
    std::int64_t voids = 0;
    for (std::int64_t row = 0; row < whole.frame().rows(); ++row)
      for (std::int64_t c = 0; c < whole.frame().cols(); ++c) {
        ASSERT_TRUE(same_bits(a.at(c, row), b.at(c, row))) << c << ", " << row;
        ASSERT_TRUE(same_bits(a.uncertainty_row(row)[c], b.uncertainty_row(row)[c])) << c << ", " << row;
        voids += std::isnan(a.at(c, row));
        if (std::isnan(a.at(c, row))) continue;
        // Which tile a cell is from is told by the sheet's own table.
        const auto name = [&](const Grid& g, std::uint32_t code) { return g.info().sources[source_of(code) - 1].name; };
        ASSERT_EQ(name(whole, a.origin_row(row)[c]), name(again, b.origin_row(row)[c]));
      }
    EXPECT_EQ(r.voids, voids);
  }
}

TEST(Sheets, AreTheSameByPartsThreadsAndProcesses) {
  const Grid whole = surface();
  const TemporaryFolder folder;
  write_sheets(whole, folder / "one/g.tif", of_size(64));
  std::vector<std::int64_t> missing;
  for (const int part : {3, 1, 2}) {
    SheetsOptions o = of_size(64);
    o.part = part;
    o.parts = 3;
    o.write.run.threads = part;
    o.write.run.memory = 1 << 20;
    const SheetsReport r = write_sheets(whole, folder / "parts/g.tif", o);
    missing.push_back(r.missing);
    EXPECT_EQ(r.index.empty(), r.missing > 0);
  }
  EXPECT_GT(missing[0], missing[1]);
  EXPECT_EQ(missing[2], 0);
  // One that only helps makes sheets as well, and leaves index and collection to the first.
  {
    PlayedRanks helper(false);
    const SheetsReport r = write_sheets(whole, folder / "ranks/g.tif", of_size(64));
    EXPECT_EQ(helper.runs, 1);
    EXPECT_TRUE(r.index.empty());
    EXPECT_FALSE(fs::exists(folder / "ranks/g.sheets.geojson"));
  }
  EXPECT_EQ(tiffs(folder / "ranks").size(), tiffs(folder / "one").size());
  {
    PlayedRanks first(true);
    const SheetsReport r = write_sheets(whole, folder / "ranks/g.tif", of_size(64));
    EXPECT_EQ(r.made, 0);
    EXPECT_EQ(r.whole_already, static_cast<std::int64_t>(r.sheets.size()));
  }
  for (const auto& e : fs::recursive_directory_iterator(folder / "one")) {
    if (!e.is_regular_file() || e.path().filename() == "survey.toml") continue;
    for (const char* other : {"parts", "ranks"})
      EXPECT_EQ(contents(e.path()), contents(folder / other / fs::relative(e.path(), folder / "one"))) << e.path();
  }
}

// Their index opens as the whole, with lineage and uncertainty, through any window.
TEST(Sheets, TheIndexOpensAsTheWhole) {
  const Grid whole = surface();
  const Block a = whole.read(whole.frame().window(), Planes::All);
  for (const char* name : {"s/g.tif", "s/g.nc", "s/g.asc"}) {
    for (const bool lineage : {true, false}) {
      SCOPED_TRACE(name);
      const TemporaryFolder folder;
      SheetsOptions o = of_size(64);
      o.write.lineage = lineage;
      const SheetsReport r = write_sheets(whole, folder / name, o);
      const Grid g = open_grid(r.index);
      ASSERT_EQ(g.frame(), whole.frame());
      EXPECT_EQ(g.quantity(), whole.quantity());
      EXPECT_EQ(g.info().sources.size(), lineage ? whole.info().sources.size() : 1u);
      const bool sure = fs::path(name).extension() != ".asc";
      EXPECT_EQ(g.carries_uncertainty(), sure);
      expect_same_for_every_window(g, 3);
      const Block b = g.read(g.frame().window(), Planes::All);
      for (std::int64_t row = 0; row < g.frame().rows(); ++row)
        for (std::int64_t c = 0; c < g.frame().cols(); ++c) {
          ASSERT_TRUE(sure ? same_bits(a.at(c, row), b.at(c, row))
                           : std::isnan(a.at(c, row)) == std::isnan(b.at(c, row)));
          ASSERT_TRUE(!sure || same_bits(a.uncertainty_row(row)[c], b.uncertainty_row(row)[c]));
          ASSERT_TRUE(!lineage || a.origin_row(row)[c] == b.origin_row(row)[c]);
        }
      // And is no tile of the folder beside the sheets.
      EXPECT_EQ(static_cast<std::int64_t>(open_folder(folder / "s").tiles.size()), r.made - r.without_value);
    }
  }
}

// From afar: where sheets begin at even cells, by their overviews; of small ones by single cells.
TEST(Sheets, AreSeenFromAfarByTheirOverviews) {
  const Frame f = utm_frame(1000, 777, 1, 676000, 5842000);
  const Grid whole = grid_from_function(
      f, [](double x, double y) { return (x - 676000) / 7 + (y - 5841000) / 11; }, metres_above_egm2008());
  const TemporaryFolder folder;
  SheetsOptions o = of_size(400);
  o.write.tile = 64;
  const Grid g = open_grid(write_sheets(whole, folder / "s/g.tif", o).index);
  std::optional<Grid> small = g.half();
  int times = 1;
  for (; small && times < 3; ++times, small = small->half()) {
    const std::int64_t step = std::int64_t{1} << times;
    EXPECT_EQ(small->frame().cols(), (f.cols() + step - 1) / step);
    EXPECT_EQ(small->frame().rows(), (f.rows() + step - 1) / step);
    expect_same_for_every_window(*small, 4, 16);
    const Block b = small->read(small->frame().window());
    for (std::int64_t r = 0; r < b.window().rows; r += 5)
      for (std::int64_t c = 0; c < b.window().cols; c += 5) {
        const Point at = small->frame().centre(static_cast<double>(c), static_cast<double>(r));
        const double x = std::min(at.x, f.east()), y = std::max(at.y, f.south());
        ASSERT_NEAR(b.at(c, r), (x - 676000) / 7 + (y - 5841000) / 11, 0.25 * static_cast<double>(step))
            << c << " " << r;
      }
  }
  EXPECT_EQ(times, 3);
  // Sheets that begin at odd cells have no common doubled ones.
  EXPECT_FALSE(open_grid(write_sheets(whole, folder / "t/g.tif", of_size(333)).index).half());
}

TEST(Sheets, AnIndexThatIsWrongIsABadFile) {
  const Grid whole = rough_grid(utm_frame(100, 80), 1);
  const TemporaryFolder folder;
  const SheetsReport r = write_sheets(whole, folder / "s/g.tif", of_size(40));
  const std::string good = contents(r.index);
  const auto with = [&](const std::string& from, const std::string& to) {
    const auto at = good.find(from);
    EXPECT_NE(at, good.npos) << from;
    std::ofstream(r.index) << good.substr(0, at) << to << good.substr(at + from.size());
    return error_of([&] { all_values(open_grid(r.index)); });
  };
  const std::string first = tiffs(folder / "s")[0].filename().string();
  for (const auto& [from, to] :
       std::initializer_list<std::pair<std::string, std::string>>{{"\"features\"", "\"nothing\""},
                                                                  {first, "../s/" + first},
                                                                  {first, ""},
                                                                  {first, tiffs(folder / "s")[1].filename().string()},
                                                                  {"\"col\":", "\"cool\":"},
                                                                  {"\"all_cols\":100", "\"all_cols\":101"},
                                                                  {"\"row\":0", "\"row\":-1"},
                                                                  {"\"row\":0", "\"row\":1"},
                                                                  {"\"cols\":40", "\"cols\":4e99"},
                                                                  {"\"cols\":40", "\"cols\":null"}}) {
    EXPECT_EQ(with(from, to), ErrorCode::BadFile) << from << " " << to;
  }
  EXPECT_EQ(with(first, "gone.tif"), ErrorCode::Io);
  // Any damage is an error or changes nothing that matters.
  std::mt19937 random(5);
  for (int i = 0; i < 300; ++i) {
    std::string bad = good;
    for (int k = 0; k < 3; ++k) bad[random() % bad.size()] = static_cast<char>(32 + random() % 95);
    std::ofstream(r.index) << bad;
    try {
      all_values(open_grid(r.index));
    } catch (const Error& e) {
      EXPECT_TRUE(e.code() == ErrorCode::BadFile || e.code() == ErrorCode::Io) << e.what();
    }
  }
  // A sheet that was replaced by another surface.
  std::ofstream(r.index) << good;
  write_grid(rough_grid(utm_frame(40, 40), 2), tiffs(folder / "s")[1], {.overwrite = true});
  EXPECT_EQ(error_of([&] { all_values(open_grid(r.index)); }), ErrorCode::BadFile);
}

// A disk that is full after so many bytes.
class SmallDisk {
 public:
  explicit SmallDisk(std::uint64_t room) : left_(std::make_shared<std::uint64_t>(room)) {
    set_sink_wrapper([left = left_](std::unique_ptr<ByteSink> inner) -> std::unique_ptr<ByteSink> {
      return std::make_unique<Sink>(std::move(inner), left);
    });
  }
  ~SmallDisk() { set_sink_wrapper({}); }

 private:
  struct Sink final : ByteSink {
    Sink(std::unique_ptr<ByteSink> i, std::shared_ptr<std::uint64_t> l) : inner(std::move(i)), left(std::move(l)) {}
    void write_at(std::uint64_t at, std::span<const std::uint8_t> bytes) override {
      if (bytes.size() > *left) throw Error(ErrorCode::Io, "cannot be written: no space left", "the disk");
      *left -= bytes.size();
      inner->write_at(at, bytes);
    }
    void commit() override { inner->commit(); }
    std::unique_ptr<ByteSink> inner;
    std::shared_ptr<std::uint64_t> left;
  };
  std::shared_ptr<std::uint64_t> left_;
};

TEST(Sheets, ARunThatEndedBeforeItsTimeGoesOn) {
  const Grid whole = surface();
  const TemporaryFolder folder;
  const SheetsReport all = write_sheets(whole, folder / "one/g.tif", of_size(50));
  std::int64_t fewest = all.made, most = 0;
  for (std::uint64_t room = 2000; room < all.bytes * 2; room += room / 2) {
    SCOPED_TRACE(room);
    const fs::path to = folder / std::to_string(room);
    {
      const SmallDisk full(room);
      if (error_of([&] { write_sheets(whole, to / "g.tif", of_size(50)); }) != ErrorCode::Io) return;
    }
    // What has its final name is whole.
    for (const fs::path& p : tiffs(to)) EXPECT_EQ(contents(p), contents(folder / "one" / p.filename())) << p;
    const SheetsReport rest = write_sheets(whole, to / "g.tif", of_size(50));
    EXPECT_EQ(rest.made + rest.whole_already, all.made);
    fewest = std::min(fewest, rest.whole_already);
    most = std::max(most, rest.whole_already);
    EXPECT_EQ(rest.bytes, all.bytes);
    EXPECT_EQ(rest.voids, all.voids);
    EXPECT_EQ(contents(rest.index), contents(all.index));
    for (const fs::path& p : tiffs(folder / "one")) EXPECT_EQ(contents(p), contents(to / p.filename()));
    if (most > 8) break;
  }
  EXPECT_EQ(fewest, 0);
  EXPECT_GT(most, 1);
}

TEST(Sheets, WhatIsDamagedOrGoneIsMadeAgain) {
  const Grid whole = surface();
  const TemporaryFolder folder;
  const SheetsReport all = write_sheets(whole, folder / "s/g.tif", of_size(100));
  const std::vector<fs::path> files = tiffs(folder / "s");
  const std::string first = contents(files[0]), second = contents(files[1]);
  fs::remove(files[0]);
  fs::resize_file(files[1], fs::file_size(files[1]) / 2);
  const SheetsReport r = write_sheets(whole, folder / "s/g.tif", of_size(100));
  EXPECT_EQ(r.made, 2);
  EXPECT_EQ(r.whole_already, all.made - 2);
  EXPECT_EQ(contents(files[0]), first);
  EXPECT_EQ(contents(files[1]), second);
}

TEST(Sheets, OfOtherThingsAreNotTakenForThese) {
  const Grid whole = surface(), other = rough_grid(utm_frame(211, 180), 9);
  const TemporaryFolder folder;
  const SheetsReport all = write_sheets(whole, folder / "s/g.tif", of_size(100, "these"));
  const std::string before = contents(tiffs(folder / "s")[0]);
  std::string text;
  EXPECT_EQ(error_of([&] { write_sheets(whole, folder / "s/g.tif", of_size(100, "those")); }, &text), ErrorCode::Io);
  EXPECT_NE(text.find("made from something else"), text.npos) << text;
  EXPECT_EQ(error_of([&] { write_sheets(other, folder / "s/g.tif", of_size(100, "these")); }), ErrorCode::Io);
  EXPECT_EQ(contents(tiffs(folder / "s")[0]), before);
  // A file of that name that is no sheet at all.
  std::ofstream(folder / "h_e6760_n58419.tif") << "mine";
  EXPECT_EQ(error_of([&] { write_sheets(whole, folder / "h.tif", of_size(100)); }), ErrorCode::Io);
  EXPECT_EQ(contents(folder / "h_e6760_n58419.tif"), "mine");
  SheetsOptions over = of_size(100, "those");
  over.write.overwrite = true;
  EXPECT_EQ(write_sheets(whole, folder / "s/g.tif", over).made, all.made);
  // A smaller surface leaves sheets of the larger behind, and says so.
  over.made_from = "less";
  const SheetsReport less = write_sheets(rough_grid(utm_frame(90, 90), 3), folder / "s/g.tif", over);
  EXPECT_TRUE(std::any_of(less.info.notes.begin(), less.info.notes.end(),
                          [](const std::string& n) { return n.find("of another run") != n.npos; }));
}

// A surface is not written over the sheets it is read from, open or not.
TEST(Sheets, AreNotReplacedByWhatIsMadeOfThem) {
  const TemporaryFolder folder;
  const SheetsReport all = write_sheets(surface(), folder / "s/g.tif", of_size(64));
  const std::vector<fs::path> files = tiffs(folder / "s");
  const std::string first = contents(files.front()), last = contents(files.back());
  {
    const Grid g = open_grid(all.index);
    SheetsOptions o = of_size(64, "themselves");
    o.write.overwrite = true;
    EXPECT_EQ(error_of([&] { write_sheets(g, folder / "s/g.tif", o); }), ErrorCode::BadArgument);
    // Nor their records.
    SheetsOptions same = of_size(64);
    EXPECT_EQ(write_sheets(surface(), folder / "s/g.tif", same).made, 0);
    for (const fs::path& file : files)
      EXPECT_EQ(error_of([&] { write_grid(g, file, {.overwrite = true}); }), ErrorCode::BadArgument) << file;
  }
  EXPECT_EQ(contents(files.front()), first);
  EXPECT_EQ(contents(files.back()), last);
  // Whose reader is gone may be replaced.
  write_grid(surface(), files.front(), {.overwrite = true});
}

TEST(Sheets, WithoutAValueHaveNoFile) {
  std::vector<float> v(200 * 100, kVoid);
  for (int r = 0; r < 100; ++r) std::fill_n(v.begin() + r * 200, 30, 5.f);
  const TemporaryFolder folder;
  const Grid g = grid_from_values(utm_frame(200, 100), v, metres_above_egm2008());
  for (const int turn : {0, 1}) {
    const SheetsReport r = write_sheets(g, folder / "s/g.tif", of_size(100));
    EXPECT_EQ(r.made, turn == 0 ? 2 : 0);
    EXPECT_EQ(r.without_value, 1);
    EXPECT_EQ(r.voids, 170 * 100);
    EXPECT_EQ(tiffs(folder / "s").size(), 1u);
    EXPECT_EQ(read_layer(r.index).features.size(), 1u);
  }
  const Grid nothing = grid_from_values(utm_frame(20, 20), std::vector<float>(400, kVoid), metres_above_egm2008());
  const SheetsReport none = write_sheets(nothing, folder / "n/g.tif", of_size(100));
  EXPECT_EQ(none.without_value, 1);
  EXPECT_TRUE(none.index.empty());
  EXPECT_TRUE(std::isnan(none.lowest));
}

TEST(Sheets, AreFoundByTheirIndexTheirCatalogueAndTheirFolder) {
  const Grid whole = surface();
  const TemporaryFolder folder;
  SheetsOptions o = of_size(64);
  o.write.survey = "Ground \"2024\"";
  const SheetsReport r = write_sheets(whole, folder / "s/g.tif", o);
  const Area area = Area::box(whole.frame().bounds(), whole.frame().crs());
  const auto files = static_cast<std::size_t>(r.made - r.without_value);
  EXPECT_EQ(read_shortlist(r.index).size(), files);
  for (const ShortlistEntry& e : read_shortlist(r.index)) EXPECT_TRUE(fs::exists(e.path)) << e.path;
  for (const std::string& place : {r.collection.string(), (folder / "s").string()}) {
    const Catalogue c = read_catalogue(place);
    ASSERT_EQ(c.tiles.size(), files) << place;
    for (const TileRecord& t : c.tiles) {
      EXPECT_EQ(t.survey, "Ground \"2024\"") << place;
      EXPECT_TRUE(fs::exists(t.path)) << t.path;
    }
    const Shortlist found = find_tiles(c, area);
    EXPECT_TRUE(std::all_of(found.tiles.begin(), found.tiles.end(), [](const auto& t) { return t.kept; })) << place;
  }
}

TEST(Sheets, ProgressRisesToTheEndAndARunCanBeStopped) {
  const Grid whole = surface();
  const TemporaryFolder folder;
  std::vector<double> told;
  Progress p([&](double done) { told.push_back(done); });
  SheetsOptions o = of_size(64);
  o.write.run.progress = &p;
  write_sheets(whole, folder / "s/g.tif", o);
  ASSERT_FALSE(told.empty());
  EXPECT_DOUBLE_EQ(told.back(), 1);
  EXPECT_TRUE(std::is_sorted(told.begin(), told.end()));
  EXPECT_LT(told.front(), 0.2);
  Progress* stop = nullptr;
  Progress stopped([&](double done) {
    if (done > 0.4) stop->cancel();
  });
  stop = &stopped;
  o.write.run.progress = &stopped;
  EXPECT_EQ(error_of([&] { write_sheets(whole, folder / "t/g.tif", o); }), ErrorCode::Cancelled);
  const std::size_t there = tiffs(folder / "t").size();
  EXPECT_GT(there, 0u);
  EXPECT_LT(there, tiffs(folder / "s").size());
  for (const fs::path& t : tiffs(folder / "t")) EXPECT_EQ(contents(t), contents(folder / "s" / t.filename()));
}

TEST(Sheets, SayWhatIsWrong) {
  const TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(40, 40), 1);
  const auto error = [&](const Grid& grid, const char* name, const SheetsOptions& o) {
    std::string text;
    const ErrorCode code = error_of([&] { write_sheets(grid, folder / name, o); }, &text);
    EXPECT_EQ(folder.files(), 0u) << text;
    return code;
  };
  EXPECT_EQ(error(g, "a.tif", of_size(15)), ErrorCode::BadArgument);
  EXPECT_EQ(error(g, "a.tif", of_size(-5)), ErrorCode::BadArgument);
  EXPECT_EQ(error(g, "a.tif", of_size(std::nan(""))), ErrorCode::BadArgument);
  EXPECT_EQ(error(g, "a.png", of_size(20)), ErrorCode::Unsupported);
  EXPECT_EQ(error(g, "a.laz", of_size(20)), ErrorCode::Unsupported);
  EXPECT_EQ(error(g, "a", of_size(20)), ErrorCode::Unsupported);
  SheetsOptions o = of_size(20);
  o.edge = Angle::degrees(1);
  EXPECT_EQ(error(g, "a.tif", o), ErrorCode::BadArgument);
  o = of_size(20);
  o.part = 3;
  o.parts = 2;
  EXPECT_EQ(error(g, "a.tif", o), ErrorCode::BadArgument);
  EXPECT_EQ(error(relabelled(g, [](GridInfo& i) { i.frame = i.frame.with_crs({}); }), "a.tif", of_size(20)),
            ErrorCode::Refused);
  // A size without an end, and one beyond all numbers of cells: an error, and one sheet to each side of the origin.
  EXPECT_EQ(error(g, "a.tif", of_size(std::numeric_limits<double>::infinity())), ErrorCode::BadArgument);
  for (const double size : {1e9, 1e30, 1e300}) {
    const std::vector<Sheet> one = sheets_of(g.frame(), Length::metres(size));
    ASSERT_EQ(one.size(), 1u) << size;
    EXPECT_EQ(one[0].window, g.frame().window());
    EXPECT_EQ(one[0].name, "e0_n0");
    EXPECT_EQ(sheets_of(Frame(g.frame().crs(), -20, 20, {1, 1}, 40, 40), Length::metres(size)).size(), 4u) << size;
  }
  // One small size on a large surface: not a million files.
  EXPECT_EQ(error_of([] { sheets_of(utm_frame(1'000'000, 1'000'000), Length::metres(1000)); }), ErrorCode::BadArgument);
  std::ofstream(folder / "file") << "x";
  EXPECT_EQ(error_of([&] { write_sheets(g, folder / "file/a.tif", of_size(20)); }), ErrorCode::Io);
}

}  // namespace
}  // namespace katoptra
