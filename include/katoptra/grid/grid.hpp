// The grid: a lazy field of values over a frame. Operations take grids and give grids; cells are computed only when a
// block is read, so a chain of steps runs in one pass and in bounded memory.
//
//   Grid shade = hillshade(reproject(clip(open_grid("dem.tif"), area), frame));   // nothing is read yet
//   Block b = shade.read({0, 0, 256, 256});                                         // these cells are computed now
//   b.at(3, 7);                                                                      // a float; NaN is a void
//
// Grid is a cheap immutable handle, safe to share between threads. A new operation is a class derived from GridSource:
// it says what comes out (`info`) and fills any window inside its frame (`read`), asking its inputs for the cells it
// needs. `read` is called from many threads at once and must give the same bits for a cell whatever window it is read
// through.
#pragma once
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/base/run_options.hpp"
#include "katoptra/grid/frame.hpp"
#include "katoptra/grid/quantity.hpp"

namespace katoptra {

inline constexpr float kVoid = std::numeric_limits<float>::quiet_NaN();

// ---- lineage: which source a cell came from, and how

enum class How : std::uint8_t { None = 0, Measured = 1, Resampled = 2, Blended = 3, Filled = 4, Interpolated = 5 };
inline constexpr int kHowCount = 6;
// The ways a cell can have come by its value, in the order they are told.
inline constexpr How kHows[] = {How::Measured, How::Resampled, How::Blended, How::Interpolated, How::Filled};
const char* name_of(How how);

// Codes of the origin plane: 0 is a void, else source number (from 1, into GridInfo::sources) times 8 plus How.
using Origin = std::uint32_t;
constexpr Origin origin_code(std::uint32_t source, How how) { return source * 8 + static_cast<std::uint32_t>(how); }
constexpr std::uint32_t source_of(Origin o) { return o / 8; }
constexpr How how_of(Origin o) { return static_cast<How>(o % 8); }
// The same source, treated once more: measured becomes resampled; blended and filled stay what they are.
constexpr Origin resampled(Origin o) {
  return how_of(o) == How::Measured ? origin_code(source_of(o), How::Resampled) : o;
}

struct SourceRecord {
  std::string name;           // file or step
  std::string survey;         // empty when unknown
  std::string date;           // ISO date; empty when unknown
  bool date_guessed = false;  // taken from the file time
  Length cell;                // ground spacing of its cells
  std::string treatment;      // what was done to its values ("ft to m"), empty when nothing
};

// ---- blocks

// What is read of each cell besides its value.
enum class Planes : std::uint8_t { Values = 0, ValuesAndOrigin = 1, ValuesAndUncertainty = 2, All = 3 };
constexpr bool has_origin(Planes p) { return static_cast<int>(p) & 1; }
constexpr bool has_uncertainty(Planes p) { return static_cast<int>(p) & 2; }
constexpr Planes planes_with(bool origin, bool uncertainty) {
  return static_cast<Planes>((origin ? 1 : 0) | (uncertainty ? 2 : 0));
}

// Where a read puts its cells: rows of `window.cols` values, `stride` apart. `origin` is null unless lineage is wanted,
// `uncertainty` unless that is: one standard uncertainty in the unit of the values, NaN where it is not known.
struct BlockView {
  Window window;
  float* values = nullptr;
  Origin* origin = nullptr;
  std::int64_t stride = 0;
  float* uncertainty = nullptr;

  float* row(std::int64_t r) const { return values + r * stride; }
  Origin* origin_row(std::int64_t r) const { return origin ? origin + r * stride : nullptr; }
  float* uncertainty_row(std::int64_t r) const { return uncertainty ? uncertainty + r * stride : nullptr; }
  Planes planes() const { return planes_with(origin != nullptr, uncertainty != nullptr); }
  // The part of this view that covers `w`, which must lie inside.
  BlockView part(const Window& w) const;
  // The cell becomes a void in every plane.
  void blank(std::int64_t col, std::int64_t row) const {
    values[row * stride + col] = kVoid;
    if (origin) origin[row * stride + col] = 0;
    if (uncertainty) uncertainty[row * stride + col] = kVoid;
  }
};

// A dense window of a grid in memory. Its memory is handed on to the next block of about its size on the same thread
// (at most 16 MiB wait there), so that a run over many blocks does not ask the system for each.
class Block {
 public:
  Block() = default;
  Block(const Window& window, Planes planes);
  Block(Block&& other) noexcept = default;
  Block& operator=(Block&& other) noexcept = default;
  ~Block() = default;
  const Window& window() const { return window_; }
  BlockView view() { return {window_, values_, origin_, window_.cols, uncertainty_}; }
  // Column and row within the block.
  float at(std::int64_t col, std::int64_t row) const { return values_[row * window_.cols + col]; }
  const float* row(std::int64_t r) const { return values_ + r * window_.cols; }
  const Origin* origin_row(std::int64_t r) const { return origin_ ? origin_ + r * window_.cols : nullptr; }
  float* row(std::int64_t r) { return values_ + r * window_.cols; }
  Origin* origin_row(std::int64_t r) { return origin_ ? origin_ + r * window_.cols : nullptr; }
  const float* uncertainty_row(std::int64_t r) const {
    return uncertainty_ ? uncertainty_ + r * window_.cols : nullptr;
  }
  float* uncertainty_row(std::int64_t r) { return uncertainty_ ? uncertainty_ + r * window_.cols : nullptr; }
  Planes planes() const { return planes_with(origin_ != nullptr, uncertainty_ != nullptr); }

 private:
  // Four bytes a cell, whatever they mean.
  struct Recycle {
    Recycle() noexcept : cells(0) {}
    explicit Recycle(std::size_t n) noexcept : cells(n) {}
    void operator()(std::byte* memory) const;
    std::size_t cells;
  };
  using Memory = std::unique_ptr<std::byte[], Recycle>;
  static Memory memory_for(std::size_t cells);

  Window window_;
  Memory value_memory_, origin_memory_, uncertainty_memory_;
  float* values_ = nullptr;
  Origin* origin_ = nullptr;
  float* uncertainty_ = nullptr;
};

// ---- grids

struct GridInfo {
  Frame frame;
  Quantity quantity;
  SampleType type = SampleType::Float32;
  // The void value of the file it came from, kept where the sample type allows.
  std::optional<double> file_void;
  std::vector<SourceRecord> sources;  // numbered from 1 in the origin plane
  // How far on the ground errors of values go together: two values that lie `d` apart have errors that correlate by
  // exp(-(d / reach)^2), so 0 is noise from cell to cell. Not known: what is computed of several cells states the
  // larger of what independent errors and errors common to all would give.
  std::optional<Length> error_reach;
  std::string name;                // file name or step, for messages
  std::vector<std::string> notes;  // what a person should know about how it was made
};

class GridSource {
 public:
  virtual ~GridSource() = default;
  virtual const GridInfo& info() const = 0;
  // Fills every cell of the view; its window lies inside the frame. The uncertainty is asked for only of a source that
  // carries it: what knows nothing of it has none, and cannot pass on one that is no longer true.
  virtual void read(const BlockView& out) const = 0;
  virtual bool carries_uncertainty() const { return false; }
  // Says that all cells of a window will be read, sooner or later (ByteSource::expect). It is passed on as far as that
  // is simple.
  virtual void expect(const Window&) const {}
  // The same ground with cells twice as wide (half_frame), where it is kept beside the values, as overviews of a file
  // are; null elsewhere. To be looked at: how its values were made is not known.
  virtual std::shared_ptr<const GridSource> half() const { return nullptr; }
};
// Cells twice as wide from the same upper left corner; the last of an odd number reach beyond the edge.
Frame half_frame(const Frame& frame);

class Grid {
 public:
  Grid() = default;
  explicit Grid(std::shared_ptr<const GridSource> source) : source_(std::move(source)) {}
  explicit operator bool() const { return source_ != nullptr; }

  const GridInfo& info() const { return source_->info(); }
  const Frame& frame() const { return info().frame; }
  const Quantity& quantity() const { return info().quantity; }
  // Any window; cells outside the frame are voids.
  Block read(const Window& window, Planes planes = Planes::Values) const;
  void read_into(const BlockView& out) const;
  void expect(const Window& window) const { source_->expect(window.intersected(frame().window())); }
  // Some of its cells have a known uncertainty (grid/uncertainty.hpp).
  bool carries_uncertainty() const { return source_->carries_uncertainty(); }
  // One value at a cell; NaN outside. For points use `sample` (terrain/sample.hpp): this decodes a block for each call.
  float at(std::int64_t col, std::int64_t row) const;
  // An overview of it, if there is one.
  std::optional<Grid> half() const;

 private:
  std::shared_ptr<const GridSource> source_;
};

// A grid held in memory, from values in row order (NaN for voids). BadArgument unless there are cols x rows of them.
Grid grid_from_values(const Frame& frame, std::vector<float> values, const Quantity& quantity = {},
                      SampleType type = SampleType::Float32, const std::string& name = "values");
// A grid computed from a function of x and y in the frame's CRS, for models and tests.
Grid grid_from_function(const Frame& frame, std::function<double(double x, double y)> f, const Quantity& quantity = {},
                        const std::string& name = "function");
// The same cells under other facts: `change` edits a copy of the info (never the size of the frame).
Grid relabelled(const Grid& grid, const std::function<void(GridInfo&)>& change);
// Values times `factor` plus `offset`; integers become fractions unless the factor is 1 (or -1)
// and the offset whole.
Grid scaled(const Grid& grid, double factor, double offset, const std::function<void(GridInfo&)>& change);
// The grid with one more value that stands for a void.
Grid with_void(const Grid& grid, double value);
// Depths, positive down, as heights: integers stay integers. Noted.
Grid depths_as_heights(const Grid& grid);
// Heights in another unit of length, exactly by definition of the units. Where the source did not say its unit, metres
// are taken for granted, and a note says so: nothing is relabelled in silence.
Grid in_unit(const Grid& grid, LengthUnit unit);

// Reads a whole grid in bands of full rows, in parallel, and hands them on in order, one at a time.
void for_each_band(const Grid& grid, Planes planes, const RunOptions& options,
                   const std::function<void(const Block&)>& body);
// The same with the work on a band done in parallel: `map` runs on any thread and is given the band with `halo` more
// rows above and below (voids beyond the grid); `reduce` gets its results in order, one at a time.
void map_bands(const Grid& grid, Planes planes, std::int64_t halo, const RunOptions& options,
               const std::function<std::shared_ptr<void>(Block with_halo, const Window& band)>& map,
               const std::function<void(std::shared_ptr<void>)>& reduce);
// The rows a band should have for a grid of that width under the options' budget.
std::int64_t band_rows(std::int64_t cols, const RunOptions& options);

}  // namespace katoptra
