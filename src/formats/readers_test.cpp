// The readers from inside: pieces of text, windows, samples, damage, archives, what is left behind.
#include "readers.hpp"

#include <algorithm>
#include <csignal>
#include <cstdlib>
#include <fmt/format.h>
#include <limits>

#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/formats/xyz.hpp"

#include "formats/hdf5/guard.hpp"
#include "samples.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

// Every format that is written gives its cells back, through any window, with its references.
TEST(Formats, RoundTripForEveryWindow) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(61, 47, 2), 9, 4);
  const std::vector<float> before = all_values(g);
  for (const char* ext : {".tif", ".asc", ".flt", ".bil", ".bip", ".bsq", ".nc", ".cdf", ".xyz"}) {
    SCOPED_TRACE(ext);
    const fs::path path = folder / ("g" + std::string(ext));
    write_grid(g, path, {.overwrite = true, .run = {}});
    const GridFile back = open_grid_file(path);
    EXPECT_TRUE(back.grid.frame().crs().same_place(g.frame().crs()));
    EXPECT_EQ(back.grid.quantity().heights, g.quantity().heights);
    EXPECT_TRUE(back.grid.quantity().unit_known);
    ASSERT_TRUE(g.frame().window_of(back.grid.frame()).has_value());
    EXPECT_EQ(*g.frame().window_of(back.grid.frame()), g.frame().window());
    const std::vector<float> after = all_values(back.grid);
    for (std::size_t i = 0; i < before.size(); ++i) ASSERT_TRUE(same_bits(before[i], after[i])) << i;
    expect_same_for_every_window(back.grid, 17, 12);
    for (const auto& beside : fs::directory_iterator(folder / ".")) fs::remove(beside);
  }
}

TEST(Formats, TheSameBytesForEveryThreadCount) {
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(700, 900), 2, 30);
  for (const char* ext : {".tif", ".asc", ".flt", ".xyz", ".png"}) {
    std::string first;
    for (int threads : {1, 2, 5}) {
      const fs::path path = folder / ("t" + std::string(ext));
      write_grid(g, path, {.overwrite = true, .run = {.threads = threads, .memory = 8u << 20}});
      const std::string bytes = read_text_file(path);
      if (first.empty()) first = bytes;
      EXPECT_TRUE(bytes == first) << ext << " " << threads;
    }
  }
}

// Text is looked through in pieces of kTextPiece; values and lines lie across their borders.
TEST(Formats, TextAcrossThePiecesOfAFile) {
  TemporaryFolder folder;
  const Frame f = utm_frame(1201, 803);
  const Grid g = rough_grid(f, 5, 40);
  const std::vector<float> before = all_values(g);
  for (const char* ext : {".asc", ".xyz"}) {
    const fs::path path = folder / ("big" + std::string(ext));
    write_grid(g, path, {});
    ASSERT_GT(fs::file_size(path), std::size_t{7} << 20);
    const std::vector<float> after = all_values(open_grid(path));
    ASSERT_EQ(after.size(), before.size());
    for (std::size_t i = 0; i < before.size(); ++i) ASSERT_TRUE(same_bits(before[i], after[i])) << ext << " " << i;
  }
}

TEST(Formats, DamagedTextTellsWhere) {
  TemporaryFolder folder;
  const std::string head = "ncols 3\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n";
  write_text_file(folder / "short.asc", head + "1 2 3 4 5");
  const GridFile cut = open_grid_file(folder / "short.asc");
  ASSERT_EQ(cut.facts.problems.size(), 1u);
  EXPECT_NE(cut.facts.problems[0].find("5 of the 6"), std::string::npos);
  EXPECT_EQ(error_of([&] { cut.grid.read(cut.grid.frame().window()); }), ErrorCode::BadFile);
  write_text_file(folder / "word.asc", head + "1 2 3 4 five 6");
  try {
    open_grid(folder / "word.asc").read({0, 0, 3, 2});
    FAIL();
  } catch (const Error& e) {
    EXPECT_NE(std::string(e.what()).find("row 1, column 1"), std::string::npos) << e.what();
    EXPECT_NE(std::string(e.what()).find("five"), std::string::npos);
  }
  write_text_file(folder / "comma.asc", head + "1,5 2 3 4 5 6");
  EXPECT_EQ(error_of([&] { open_grid(folder / "comma.asc"); }), ErrorCode::BadFile);
  write_text_file(folder / "huge.asc", "ncols 2000000000\nnrows 2000000000\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2");
  EXPECT_EQ(error_of([&] { open_grid(folder / "huge.asc"); }), ErrorCode::BadFile);
  write_text_file(folder / "line.xyz", "1 1 5\n2 1 5\n1 2 5\n2 2\n");
  EXPECT_EQ(error_of([&] { open_grid(folder / "line.xyz"); }), ErrorCode::BadFile);
  write_text_file(folder / "f.hdr", "nrows 3\nncols 2\nnbits 16\nulxmap 1\nulymap 2\nxdim 1\nydim 1\n");
  write_text_file(folder / "f.bil", "abcd");
  const GridFile flat = open_grid_file(folder / "f.bil");
  EXPECT_EQ(flat.facts.problems.size(), 1u);
  EXPECT_EQ(error_of([&] { flat.grid.at(0, 2); }), ErrorCode::BadFile);
}

TEST(Samples, VoidsScalesAndTypes) {
  const double inf = std::numeric_limits<double>::infinity();
  const std::vector<double> in{1, -9999, std::nan(""), inf, -inf, 3.4e38, -1e38, 7};
  std::vector<float> out(in.size());
  samples_to_floats({.type = SampleType::Float64, .hole = -9999}, reinterpret_cast<const std::uint8_t*>(in.data()), 1,
                    8, out.data());
  EXPECT_EQ(out[0], 1);
  for (std::size_t i = 1; i < 7; ++i) EXPECT_TRUE(std::isnan(out[i])) << i;
  EXPECT_EQ(out[7], 7);
  const std::vector<std::int16_t> whole{-32768, 0, 10, -1};
  samples_to_floats({.type = SampleType::Int16, .hole = -32768, .scale = 0.5, .offset = 100},
                    reinterpret_cast<const std::uint8_t*>(whole.data()), 1, 4, out.data());
  EXPECT_TRUE(std::isnan(out[0]));
  EXPECT_EQ(out[1], 100);
  EXPECT_EQ(out[2], 105);
  EXPECT_EQ(out[3], 99.5F);
  // A void value that the type cannot hold is no sample of it.
  const std::vector<std::uint8_t> bytes{241, 255, 0};
  samples_to_floats({.type = SampleType::UInt8, .hole = -9999}, bytes.data(), 1, 3, out.data());
  EXPECT_EQ(out[0], 241);
  // The largest 64-bit values are not representable as numbers of the header.
  const std::vector<std::int64_t> large{std::numeric_limits<std::int64_t>::max(), 5};
  samples_to_floats({.type = SampleType::Int64, .hole = 9223372036854775807.0},
                    reinterpret_cast<const std::uint8_t*>(large.data()), 1, 2, out.data());
  EXPECT_TRUE(std::isnan(out[0]));
  EXPECT_EQ(out[1], 5);
}

TEST(Samples, DepthsOfEverySignedness) {
  const Grid g = grid_from_values(utm_frame(3, 1), {200, 0, kVoid}, {}, SampleType::UInt8);
  const Grid h = depths_as_heights(g);
  EXPECT_EQ(h.info().type, SampleType::Int16);
  EXPECT_EQ(h.at(0, 0), -200);
  EXPECT_FALSE(std::signbit(h.at(1, 0)));
  EXPECT_TRUE(std::isnan(h.at(2, 0)));
  EXPECT_EQ(depths_as_heights(h).info().type, SampleType::Int16);
}

// A helper that does what it is told, in the place of the tool.
class HelperInstead {
 public:
  explicit HelperInstead(const std::string& body) : path_(folder_ / "helper") {
    if (!body.empty()) {
      write_text_file(path_, "#!/bin/sh\n" + body + "\n");
      std::filesystem::permissions(path_, std::filesystem::perms::owner_all);
    }
    ::setenv("KATOPTRA_HELPER", path_.c_str(), 1);
  }
  ~HelperInstead() { ::unsetenv("KATOPTRA_HELPER"); }

 private:
  TemporaryFolder folder_;
  std::filesystem::path path_;
};

TEST(Guard, WhatEndsTheHelperEndsNothingElse) {
  TemporaryFolder folder;
  int n = 0;
  const auto probe = [&] {
    const auto file = folder / ("f" + std::to_string(n++));
    write_text_file(file, "a container");
    return probe_apart(locate(file), {});
  };
  for (const char* grief : {"kill -ABRT $$", "kill -SEGV $$", "exit 0", "exit 1"}) {
    const HelperInstead helper(grief);
    EXPECT_EQ(error_of(probe), ErrorCode::BadFile) << grief;
  }
  {
    const HelperInstead helper("[ $1 = probe-container ] && exit 10");
    EXPECT_EQ(probe(), Container::Bag);
  }
  {
    const HelperInstead helper("exit 11");
    EXPECT_EQ(probe(), Container::Other);
  }
  // Without a helper nothing is read unguarded.
  const HelperInstead none("");
  EXPECT_EQ(error_of(probe), ErrorCode::MissingResource);
}

// The probe was a fork of a process with threads: the copy waited for ever for a lock that one of them held, 5 times
// of 5.
TEST(Guard, ContainersAreProbedFromManyThreads) {
  TemporaryFolder folder;
  for (int i = 0; i < 6; ++i) {
    const Grid g =
        grid_from_values(utm_frame(8, 6), std::vector<float>(48, static_cast<float>(i)), metres_above_egm2008());
    write_grid(g, folder / ("a" + std::to_string(i) + ".nc"));
    write_grid(g, folder / ("b" + std::to_string(i) + ".tif"));
  }
  RunOptions run;
  run.threads = 4;
  for (int turn = 0; turn < 3; ++turn)
    parallel_for(12, run, [&](std::size_t i) {
      const std::string name = (i % 2 ? "a" : "b") + std::to_string(i / 2) + (i % 2 ? ".nc" : ".tif");
      const Grid g = open_grid(folder / name);
      EXPECT_EQ(g.at(2, 2), static_cast<float>(i / 2));
      EXPECT_EQ(Crs::parse("EPSG:" + std::to_string(32601 + i)).epsg(), 32601 + static_cast<int>(i));
    });
}

TEST(Guard, ADamagedContainerIsAnError) {
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(40, 30), 1, 0), folder / "g.nc", {});
  const std::string whole = read_text_file(folder / "g.nc");
  std::mt19937 random(4);
  int read = 0, refused = 0;
  for (int turn = 0; turn < 60; ++turn) {
    std::string bytes = whole;
    for (int k = 0; k < 6; ++k)
      bytes[random() % std::min<std::size_t>(bytes.size(), 6000)] = static_cast<char>(random());
    write_text_file(folder / "d.nc", bytes, {.overwrite = true});
    try {
      const Grid g = open_grid(folder / "d.nc");
      g.read(g.frame().window().intersected({0, 0, 64, 64}));
      ++read;
    } catch (const Error& e) {
      EXPECT_TRUE(e.code() == ErrorCode::BadFile || e.code() == ErrorCode::Unsupported ||
                  e.code() == ErrorCode::TooLarge)
          << e.what();
      ++refused;
    }
  }
  EXPECT_EQ(read + refused, 60);
  EXPECT_GT(refused, 5);
}

// Nothing stays behind when a format's file cannot be finished, whatever lies beside it.
TEST(Formats, AFailedWriteLeavesNothing) {
  struct Failing final : ByteSink {
    void write_at(std::uint64_t, std::span<const std::uint8_t>) override {
      throw Error(ErrorCode::Io, "cannot be written: no space", "disk");
    }
    void commit() override {}
  };
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(40, 30), 1, 0);
  set_sink_wrapper([](std::unique_ptr<ByteSink>) { return std::make_unique<Failing>(); });
  for (const char* ext : {".asc", ".flt", ".bil", ".xyz", ".png"})
    EXPECT_EQ(error_of([&] { write_grid(g, folder / ("x" + std::string(ext)), {}); }), ErrorCode::Io) << ext;
  set_sink_wrapper({});
  EXPECT_EQ(folder.files(), 0u);
  write_text_file(folder / "y.hdr", "precious");
  EXPECT_EQ(error_of([&] { write_grid(g, folder / "y.bil", {}); }), ErrorCode::Io);
  EXPECT_EQ(folder.files(), 1u);
}

TEST(Soundings, AsPointsThereAndBack) {
  TemporaryFolder folder;
  write_text_file(folder / "s.txt",
                  "# echo sounder\n676000.5;5842000,25;-3,5\n676010.5;5842007,25;-4\n676013;5842001;-4,25\n");
  // Points and commas may not be mixed: a comma is a fraction only where there are no points.
  EXPECT_EQ(error_of([&] { read_layer(folder / "s.txt", Crs::parse("EPSG:32725")); }), ErrorCode::BadFile);
  write_text_file(folder / "s.xyz", "x y depth\n676000.5 5842000.25 3.5\n676010.5 5842007.25 4\n676013 5842001 4.25\n");
  const Layer layer = read_layer(folder / "s.xyz", Crs::parse("EPSG:32725"));
  ASSERT_EQ(layer.features.size(), 3u);
  EXPECT_EQ(std::get<double>(layer.features[0].properties[0].second), -3.5);
  write_layer(layer, folder / "out.xyz");
  write_layer(layer, folder / "out.csv");
  for (const char* name : {"out.xyz", "out.csv"}) {
    const Layer back = read_layer(folder / name, layer.crs);
    ASSERT_EQ(back.features.size(), 3u) << name;
    for (std::size_t i = 0; i < 3; ++i) {
      EXPECT_EQ(std::get<Point>(back.features[i].geometry), std::get<Point>(layer.features[i].geometry));
      EXPECT_EQ(std::get<double>(back.features[i].properties[0].second),
                std::get<double>(layer.features[i].properties[0].second));
    }
  }
  EXPECT_EQ(error_of([&] { read_layer(folder / "s.xyz"); }), ErrorCode::Refused);
}

}  // namespace
}  // namespace katoptra
