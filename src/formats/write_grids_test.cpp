// Several files from one reading: the same bytes as one by one, each block read once, nothing half made.
#include <atomic>
#include <map>

#include "katoptra/base/progress.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/terrain/products.hpp"

#include "grid/shared_reading.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

// Counts how often each cell is asked for; may fail after some reads.
class Counting final : public GridSource {
 public:
  explicit Counting(Grid input, int fails_after = -1) : input_(std::move(input)), fails_after_(fails_after) {
    reads_ = std::vector<std::atomic<int>>(static_cast<std::size_t>(input_.frame().window().cells()));
  }
  const GridInfo& info() const override { return input_.info(); }
  void read(const BlockView& out) const override {
    if (fails_after_ >= 0 && calls_++ >= fails_after_) throw Error(ErrorCode::Io, "the disk is gone", "disk");
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        ++reads_[static_cast<std::size_t>((out.window.row + r) * input_.frame().cols() + out.window.col + c)];
    input_.read_into(out);
  }
  int most() const { return *std::max_element(reads_.begin(), reads_.end()); }
  double mean() const {
    double sum = 0;
    for (const auto& n : reads_) sum += n;
    return sum / static_cast<double>(reads_.size());
  }

 private:
  Grid input_;
  int fails_after_;
  mutable std::atomic<int> calls_{0};
  mutable std::vector<std::atomic<int>> reads_;
};

GridTarget target(const fs::path& folder, const std::string& product, const std::string& ending = ".tif") {
  const ProductCall call = parse_product(product);
  return {[call](const Grid& g) { return call.product->make(g, call.settings); }, folder / (call.name + ending)};
}

const std::vector<std::string> kWanted = {"slope", "hillshade:altitude=30deg", "curvature:window=9,kind=plan",
                                          "aspect:window=5", "roughness"};

TEST(WriteGrids, TheSameBytesAsOneByOne) {
  const TemporaryFolder folder;
  for (const auto& [cols, rows] : {std::pair{211, 163}, std::pair{37, 300}, std::pair{1, 1}, std::pair{64, 64}}) {
    const Grid g = rough_grid(utm_frame(cols, rows, 2), 7, 9);
    for (const auto& [threads, memory, tile] :
         {std::tuple{1, 1u << 20, 64}, std::tuple{3, 512u << 20, 64}, std::tuple{2, 64u << 20, 512}}) {
      SCOPED_TRACE(::testing::Message() << cols << " x " << rows << ", tiles of " << tile);
      const WriteOptions o{
          .overwrite = true, .date = {}, .survey = {}, .tile = tile, .run = {.threads = threads, .memory = memory}};
      std::vector<GridTarget> targets;
      for (const std::string& w : kWanted) targets.push_back(target(folder.path(), w));
      const auto reports = write_grids(g, targets, o);
      ASSERT_EQ(reports.size(), kWanted.size());
      for (std::size_t i = 0; i < targets.size(); ++i) {
        const WriteReport alone = write_grid(targets[i].make(g), folder / "alone.tif", o);
        EXPECT_EQ(contents(targets[i].path), contents(folder / "alone.tif")) << kWanted[i];
        EXPECT_EQ(reports[i].path, targets[i].path);
        EXPECT_EQ(reports[i].cells, alone.cells);
        EXPECT_EQ(reports[i].voids, alone.voids);
        EXPECT_EQ(reports[i].bytes, alone.bytes);
        EXPECT_TRUE(same_bits(static_cast<float>(reports[i].highest), static_cast<float>(alone.highest)));
      }
    }
  }
}

TEST(WriteGrids, ABlockIsReadOnce) {
  const TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(330, 270, 2), 3, 5);
  const auto source = std::make_shared<Counting>(g);
  std::vector<GridTarget> targets;
  // A hillshade looks at the whole of a small surface to find its tone.
  for (const std::string& w : kWanted)
    if (!w.starts_with("hillshade")) targets.push_back(target(folder.path(), w));
  write_grids(Grid(source), targets, {.date = {}, .survey = {}, .tile = 64, .run = {}});
  // A cell lies in its own tile and, within the margin of 4, in those beside it.
  EXPECT_EQ(source->most(), 4);
  EXPECT_LT(source->mean(), 1.3);
}

TEST(WriteGrids, OtherFormatsFollow) {
  const TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(50, 40, 2), 3, 2);
  const auto reports = write_grids(g, {target(folder.path(), "slope", ".asc"), target(folder.path(), "aspect"),
                                       target(folder.path(), "roughness", ".nc"), target(folder.path(), "curvature")});
  ASSERT_EQ(reports.size(), 4u);
  EXPECT_EQ(reports[0].format, "ASCII grid");
  EXPECT_EQ(reports[1].format, "GeoTIFF");
  EXPECT_EQ(reports[3].path, folder / "curvature.tif");
  for (const WriteReport& r : reports) EXPECT_EQ(open_grid(r.path).frame().cols(), 50) << r.path;
  EXPECT_TRUE(write_grids(g, {}).empty());
}

TEST(WriteGrids, NothingIsLeftHalfMade) {
  const TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(400, 400, 2), 3, 2);
  std::vector<GridTarget> targets = {target(folder.path(), "slope"), target(folder.path(), "aspect")};
  const WriteOptions small{.date = {}, .survey = {}, .tile = 64, .run = {}};
  EXPECT_EQ(error_of([&] { write_grids(Grid(std::make_shared<Counting>(g, 20)), targets, small); }), ErrorCode::Io);
  EXPECT_EQ(folder.files(), 0u);
  Progress* seen = nullptr;
  Progress progress([&](double done) {
    if (done > 0.4) seen->cancel();
  });
  seen = &progress;
  WriteOptions stopped = small;
  stopped.run.progress = &progress;
  EXPECT_EQ(error_of([&] { write_grids(g, targets, stopped); }), ErrorCode::Cancelled);
  EXPECT_EQ(folder.files(), 0u);
  // One that cannot be made, or is there already, stops all before a cell is computed.
  targets.push_back({[](const Grid& of) {
                       return product_named("slope")->make(
                           product_named("slope")->make(of, product_named("slope")->settings()),
                           product_named("slope")->settings());
                     },
                     folder / "no.tif"});
  EXPECT_EQ(error_of([&] { write_grids(g, targets, small); }), ErrorCode::Refused);
  EXPECT_EQ(folder.files(), 0u);
  targets.pop_back();
  std::ofstream(folder / "aspect.tif") << "mine";
  EXPECT_EQ(error_of([&] { write_grids(g, targets, small); }), ErrorCode::Io);
  EXPECT_EQ(contents(folder / "aspect.tif"), "mine");
  EXPECT_EQ(folder.files(), 1u);
  std::string text;
  EXPECT_EQ(error_of([&] { write_grids(g, {targets[0], targets[0]}, small); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("slope.tif"), text.npos);
  // Other cells than the surface's are written by themselves.
  targets[1] = {[](const Grid& of) {
                  return grid_from_values(utm_frame(2, 2), {1, 2, 3, 4}, of.quantity());
                },
                folder / "b.tif"};
  EXPECT_EQ(error_of([&] { write_grids(g, targets, small); }), ErrorCode::BadArgument);
}

// A failure on one thread cut short the row of overview tiles that another was packing, which then took them for made:
// a crash, one time in some hundred.
TEST(WriteGrids, AFailureWhileOverviewsArePackedIsAnError) {
  const TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(400, 400, 2), 3, 2);
  const WriteOptions small{.date = {}, .survey = {}, .tile = 16, .run = {.threads = 4}};
  for (int turn = 0; turn < 60; ++turn) {
    const Grid failing(std::make_shared<Counting>(g, 50 + 9 * turn));
    EXPECT_EQ(error_of([&] { write_grid(failing, folder / "a.tif", small); }), ErrorCode::Io) << turn;
  }
  EXPECT_EQ(folder.files(), 0u);
}

// Bytes that use all their values have no room for voids: a wider type is found for them here, too.
TEST(WriteGrids, AWiderTypeIsFoundWhereVoidsNeedOne) {
  const TemporaryFolder folder;
  std::vector<float> v(64 * 64);
  for (std::size_t i = 0; i < v.size(); ++i) v[i] = i % 300 < 256 ? static_cast<float>(i % 300) : kVoid;
  const Grid g = grid_from_values(utm_frame(64, 64), v, metres_above_egm2008(), SampleType::UInt8);
  const auto same = [](const Grid& of) { return of; };
  const auto reports = write_grids(g, {{same, folder / "a.tif"}, {same, folder / "b.tif"}});
  for (const WriteReport& r : reports) {
    EXPECT_EQ(r.type, SampleType::Int16);
    const auto back = all_values(open_grid(r.path));
    for (std::size_t i = 0; i < v.size(); ++i) ASSERT_TRUE(same_bits(back[i], v[i])) << i;
  }
}

TEST(SharedReading, ValuesDoNotDependOnWhatIsHeld) {
  const Grid g = rough_grid(utm_frame(90, 70, 2), 4, 6);
  const auto source = std::make_shared<Counting>(g);
  SharedReading shared{Grid(source)};
  const Product& p = *product_named("curvature");
  const Settings s = p.settings({{"window", "7"}});
  const Grid made = p.make(shared.grid(), s), truth = p.make(g, s);
  shared.learn([&](const Grid& level) { return p.make(level, s); }, {32, 32, 32, 32});
  EXPECT_EQ(source->most(), 0);
  const auto held = shared.hold({32, 32, 32, 32}, Planes::Values);
  EXPECT_EQ(source->most(), 1);
  for (int i = 0; i < 5; ++i) made.read({32, 32, 32, 32});
  EXPECT_EQ(source->most(), 1) << "within the margin nothing is read again";
  expect_same_for_every_window(made, 5, 15);  // partly held, partly not; with origins, which are not held
  const auto a = all_values(made), b = all_values(truth);
  for (std::size_t i = 0; i < a.size(); ++i) ASSERT_TRUE(same_bits(a[i], b[i])) << i;
}

}  // namespace
}  // namespace katoptra
