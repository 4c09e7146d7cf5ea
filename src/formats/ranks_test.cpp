// Work shared between processes, with processes played by one: results travel as bytes and come in another order; a
// process that only helps leaves no file.
#include "base/ranks.hpp"

#include <algorithm>

#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/terrain/products.hpp"

#include "base/packed.hpp"
#include "played_ranks.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

Grid surface() {
  return with_uncertainty(rough_grid(utm_frame(211, 163, 2), 7, 9), UncertaintyModel{.constant = Length::metres(0.05)});
}

WriteOptions options_with(bool lineage) {
  WriteOptions o{.overwrite = true, .date = {}, .survey = {}, .tile = 64, .run = {}};
  o.lineage = lineage;
  return o;
}

TEST(Ranks, AGridOfSeveralProcessesIsThatOfOne) {
  const TemporaryFolder folder;
  const Grid g = surface();
  for (const bool lineage : {false, true}) {
    const WriteReport alone = write_grid(g, folder / "alone.tif", options_with(lineage));
    WriteReport shared;
    {
      PlayedRanks ranks(true);
      shared = write_grid(g, folder / "shared.tif", options_with(lineage));
      EXPECT_EQ(ranks.runs, 2);  // how to pack is tried, then tiles
    }
    EXPECT_EQ(contents(folder / "shared.tif"), contents(folder / "alone.tif"));
    EXPECT_EQ(shared.cells, alone.cells);
    EXPECT_EQ(shared.voids, alone.voids);
    EXPECT_EQ(shared.uncertainty.cells, alone.uncertainty.cells);
    EXPECT_EQ(shared.uncertainty.rms, alone.uncertainty.rms);
    EXPECT_EQ(shared.lowest, alone.lowest);
    EXPECT_TRUE(std::equal(std::begin(shared.by_how), std::end(shared.by_how), std::begin(alone.by_how)));
    if (lineage) {
      EXPECT_EQ(contents(shared.lineage_path), contents(alone.lineage_path));
    }
  }
}

// Tiles stay with who made them, and are written by those; rows wait for one another, in files of values with their
// uncertainty and of codes.
TEST(Ranks, WhoMadeTilesWritesThem) {
  const TemporaryFolder folder;
  const Grid g = surface();
  write_grid(g, folder / "alone.tif", options_with(true));
  write_grids(g,
              {{[](const Grid& s) { return s; }, folder / "alone-a.tif"},
               {[](const Grid& s) { return s; }, folder / "alone-b.tif"}},
              options_with(true));
  {
    PlayedRanks ranks(true, true);
    write_grid(g, folder / "shared.tif", options_with(true));
    EXPECT_TRUE(ranks.marks_are_there);
    EXPECT_TRUE(ranks.sizes_are_right);
    EXPECT_GT(ranks.written, 0u);
    EXPECT_EQ(ranks.written, ranks.kept_bytes);
    write_grids(g,
                {{[](const Grid& s) { return s; }, folder / "shared-a.tif"},
                 {[](const Grid& s) { return s; }, folder / "shared-b.tif"}},
                options_with(true));
    EXPECT_EQ(ranks.written, ranks.kept_bytes);
  }
  for (const char* name : {".tif", ".lineage.tif", "-a.tif", "-a.lineage.tif", "-b.tif", "-b.lineage.tif"})
    EXPECT_EQ(contents(folder / ("shared" + std::string(name))), contents(folder / ("alone" + std::string(name))))
        << name;
}

// Of a surface without its uncertainty, each by itself.
TEST(Ranks, WhoMadeFewTilesWritesThem) {
  const TemporaryFolder folder;
  for (const auto& [cols, rows] : {std::pair{211, 163}, std::pair{512, 512}, std::pair{64, 500}, std::pair{70, 3}}) {
    const Grid g = rough_grid(utm_frame(cols, rows), 7, 9);
    write_grid(g, folder / "alone.tif", options_with(true));
    for (const bool keeps : {false, true}) {
      PlayedRanks ranks(true, keeps);
      write_grid(g, folder / "shared.tif", options_with(true));
      EXPECT_EQ(ranks.written, ranks.kept_bytes);
      for (const char* name : {".tif", ".lineage.tif"})
        EXPECT_EQ(contents(folder / ("shared" + std::string(name))), contents(folder / ("alone" + std::string(name))))
            << cols << " x " << rows << name;
    }
  }
}

// Of very many tiles, of which eight by eight are made together.
TEST(Ranks, WhoMadeManyTilesWritesThem) {
  const TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(2100, 2070), 8, 9);
  WriteOptions options = options_with(false);
  options.tile = 16;
  for (const std::size_t memory : {std::size_t{1} << 20, std::size_t{256} << 20}) {
    options.run.memory = memory;
    write_grid(g, folder / "alone.tif", options);
    PlayedRanks ranks(true, true);
    write_grid(g, folder / "shared.tif", options);
    EXPECT_EQ(ranks.written, ranks.kept_bytes);
    EXPECT_EQ(contents(folder / "shared.tif"), contents(folder / "alone.tif"));
  }
}

TEST(Ranks, SeveralFilesOfOneReading) {
  const TemporaryFolder folder;
  const Grid g = surface();
  const auto targets = [&](const std::string& name) {
    std::vector<GridTarget> all;
    for (const std::string product : {"slope", "roughness"}) {
      const ProductCall call = parse_product(product);
      all.push_back(
          {[call](const Grid& s) { return call.product->make(s, call.settings); }, folder / (name + product + ".tif")});
    }
    return all;
  };
  write_grids(g, targets("alone-"), options_with(false));
  {
    PlayedRanks ranks(true);
    write_grids(g, targets("shared-"), options_with(false));
    EXPECT_EQ(ranks.runs, 3);  // of each how to pack; then both
  }
  for (const std::string product : {"slope", "roughness"})
    EXPECT_EQ(contents(folder / ("shared-" + product + ".tif")), contents(folder / ("alone-" + product + ".tif")));
}

TEST(Ranks, WhoHelpsLeavesNothing) {
  const TemporaryFolder folder;
  const Grid g = surface();
  write_grid(g, folder / "before.tif", options_with(false));
  const std::string before = contents(folder / "before.tif");
  {
    PlayedRanks ranks(false);
    write_grid(g, folder / "shared.tif", options_with(true));
    write_grid(g, folder / "before.tif", options_with(false));
    EXPECT_EQ(ranks.runs, 4);
    EXPECT_EQ(folder.files(), 1u);
    EXPECT_EQ(contents(folder / "before.tif"), before);
    // What the first process writes is not known here, not even where something of that name lies.
    EXPECT_EQ(error_of([&] { open_grid(folder / "before.tif"); }), ErrorCode::Cancelled);
    for (const char* name : {"a.nc", "a.bag"})
      EXPECT_EQ(error_of([&] { write_grid(g, folder / name, options_with(false)); }), ErrorCode::Cancelled) << name;
  }
  EXPECT_EQ(folder.files(), 1u);
  EXPECT_EQ(open_grid(folder / "before.tif").frame().cols(), 211);
}

TEST(Ranks, WorkWithinWorkIsNotShared) {
  PlayedRanks ranks(true);
  std::atomic<int> placed{0};
  parallel_for(3, {}, [&](std::size_t) {
    share_ordered({.n = 4,
                   .in_flight = 2,
                   .options = {},
                   .make = [](std::size_t) { return std::shared_ptr<void>(); },
                   .place = [&](std::size_t, const std::shared_ptr<void>&) { ++placed; },
                   .pack = {},
                   .unpack = {}});
  });
  EXPECT_EQ(placed, 12);
  EXPECT_EQ(ranks.runs, 0);
}

TEST(Packed, ComesBack) {
  Packer p;
  p.put(7);
  p.put(std::vector<float>{1.5F, -0.0F});
  p.put(std::vector<std::uint8_t>{});
  p.put(2.25);
  Unpacker u(p.bytes);
  EXPECT_EQ(u.take<int>(), 7);
  EXPECT_EQ(u.take_all<float>(), (std::vector<float>{1.5F, -0.0F}));
  EXPECT_TRUE(u.take_all<std::uint8_t>().empty());
  EXPECT_EQ(u.take<double>(), 2.25);
  EXPECT_TRUE(u.empty());
  EXPECT_EQ(error_of([&] { u.take<int>(); }), ErrorCode::Io);
  // A length that cannot be.
  Packer long_one;
  long_one.put(std::size_t{1} << 62);
  Unpacker v(long_one.bytes);
  EXPECT_EQ(error_of([&] { v.take_all<double>(); }), ErrorCode::Io);
}

}  // namespace
}  // namespace katoptra
