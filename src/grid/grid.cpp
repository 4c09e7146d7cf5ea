#include "katoptra/grid/grid.hpp"

#include <algorithm>
#include <cassert>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/memory.hpp"
#include "katoptra/base/parallel.hpp"

#include "planes.hpp"

namespace katoptra {

const char* name_of(How how) {
  switch (how) {
    case How::Measured:
      return "measured";
    case How::Resampled:
      return "resampled";
    case How::Blended:
      return "blended";
    case How::Filled:
      return "filled";
    case How::Interpolated:
      return "interpolated";
    case How::None:
      break;
  }
  return "void";
}

BlockView BlockView::part(const Window& w) const {
  assert(window.contains(w));
  const std::int64_t shift = (w.row - window.row) * stride + (w.col - window.col);
  return {w, values + shift, origin ? origin + shift : nullptr, stride, uncertainty ? uncertainty + shift : nullptr};
}

void make_void(const BlockView& v) {
  for (std::int64_t r = 0; r < v.window.rows; ++r) {
    std::fill_n(v.row(r), v.window.cols, kVoid);
    if (v.origin) std::fill_n(v.origin_row(r), v.window.cols, Origin{0});
    if (v.uncertainty) std::fill_n(v.uncertainty_row(r), v.window.cols, kVoid);
  }
}

void void_where_value_is(const BlockView& v) {
  if (v.planes() == Planes::Values) return;
  for (std::int64_t r = 0; r < v.window.rows; ++r)
    for (std::int64_t c = 0; c < v.window.cols; ++c)
      if (std::isnan(v.row(r)[c])) v.blank(c, r);
}

void scale_uncertainty(const BlockView& v, double factor) {
  if (!v.uncertainty || std::abs(factor) == 1) return;
  const auto by = static_cast<float>(std::abs(factor));
  for (std::int64_t r = 0; r < v.window.rows; ++r)
    for (std::int64_t c = 0; c < v.window.cols; ++c) v.uncertainty_row(r)[c] *= by;
}

void add_variance(const BlockView& v, double of_all) {
  for (std::int64_t r = 0; v.uncertainty && of_all > 0 && r < v.window.rows; ++r)
    for (std::int64_t c = 0; c < v.window.cols; ++c) {
      float& u = v.uncertainty_row(r)[c];
      u = static_cast<float>(std::hypot(static_cast<double>(u), of_all));
    }
}

void Block::Recycle::operator()(std::byte* memory) const { give_memory(memory, cells * sizeof(float)); }

Block::Memory Block::memory_for(std::size_t cells) {
  return Memory(static_cast<std::byte*>(take_memory(cells * sizeof(float))), Recycle(cells));
}

Block::Block(const Window& window, Planes planes) : window_(window) {
  static_assert(sizeof(float) == 4 && sizeof(Origin) == 4);
  const auto n = static_cast<std::size_t>(window.cells());
  value_memory_ = memory_for(n);
  values_ = reinterpret_cast<float*>(value_memory_.get());
  if (has_origin(planes)) {
    origin_memory_ = memory_for(n);
    origin_ = reinterpret_cast<Origin*>(origin_memory_.get());
    std::fill_n(origin_, n, Origin{0});
  }
  if (has_uncertainty(planes)) {
    uncertainty_memory_ = memory_for(n);
    uncertainty_ = reinterpret_cast<float*>(uncertainty_memory_.get());
  }
}

namespace {

// All of a view outside a window, which lies within it or is empty.
void void_around(const BlockView& v, const Window& inside) {
  if (inside == v.window) return;
  if (inside.empty()) return make_void(v);
  const auto part = [&](std::int64_t col, std::int64_t row, std::int64_t end_col, std::int64_t end_row) {
    if (const Window w{col, row, end_col - col, end_row - row}; !w.empty()) make_void(v.part(w));
  };
  const std::int64_t left = v.window.col, right = left + v.window.cols, top = v.window.row,
                     bottom = top + v.window.rows, end_col = inside.col + inside.cols,
                     end_row = inside.row + inside.rows;
  part(left, top, right, inside.row);
  part(left, inside.row, inside.col, end_row);
  part(end_col, inside.row, right, end_row);
  part(left, end_row, right, bottom);
}

}  // namespace

void Grid::read_into(const BlockView& out) const {
  const Window inside = out.window.intersected(frame().window());
  void_around(out, inside);
  if (inside.empty()) return;
  BlockView part = out.part(inside);
  if (part.uncertainty && !carries_uncertainty()) {
    for (std::int64_t r = 0; r < inside.rows; ++r) std::fill_n(part.uncertainty_row(r), inside.cols, kVoid);
    part.uncertainty = nullptr;
  }
  source_->read(part);
}

Block Grid::read(const Window& window, Planes planes) const {
  Block block(window, planes);
  read_into(block.view());
  return block;
}

float Grid::at(std::int64_t col, std::int64_t row) const { return read({col, row, 1, 1}).at(0, 0); }

// ------------------------------------------------------------------------------------------------- simple sources

namespace {

void measured_everywhere(const BlockView& out) {
  if (!out.origin) return;
  for (std::int64_t r = 0; r < out.window.rows; ++r)
    for (std::int64_t c = 0; c < out.window.cols; ++c)
      out.origin_row(r)[c] = std::isnan(out.row(r)[c]) ? 0 : origin_code(1, How::Measured);
}

GridInfo simple_info(const Frame& frame, const Quantity& quantity, SampleType type, const std::string& name) {
  GridInfo info;
  info.frame = frame;
  info.quantity = quantity;
  info.type = type;
  info.name = name;
  info.sources = {{.name = name, .cell = ground_spacing(frame).y}};
  return info;
}

class ValuesSource final : public GridSource {
 public:
  ValuesSource(GridInfo info, std::vector<float> values) : info_(std::move(info)), values_(std::move(values)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r)
      std::copy_n(values_.data() + (w.row + r) * info_.frame.cols() + w.col, w.cols, out.row(r));
    measured_everywhere(out);
  }

 private:
  GridInfo info_;
  std::vector<float> values_;
};

class FunctionSource final : public GridSource {
 public:
  FunctionSource(GridInfo info, std::function<double(double, double)> f) : info_(std::move(info)), f_(std::move(f)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const Point p = info_.frame.centre(static_cast<double>(w.col + c), static_cast<double>(w.row + r));
        out.row(r)[c] = static_cast<float>(f_(p.x, p.y));
      }
    measured_everywhere(out);
  }

 private:
  GridInfo info_;
  std::function<double(double, double)> f_;
};

class ScaledSource final : public GridSource {
 public:
  ScaledSource(Grid input, GridInfo info, double factor, double offset)
      : input_(std::move(input)), info_(std::move(info)), factor_(factor), offset_(offset) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void expect(const Window& w) const override { input_.expect(w); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    if (factor_ == 1 && offset_ == 0) return;
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        out.row(r)[c] = static_cast<float>(static_cast<double>(out.row(r)[c]) * factor_ + offset_);
    scale_uncertainty(out, factor_);
  }

  std::shared_ptr<const GridSource> half() const override {
    const auto input = input_.half();
    if (!input) return nullptr;
    GridInfo info = info_;
    info.frame = half_frame(info.frame);
    return std::make_shared<ScaledSource>(*input, std::move(info), factor_, offset_);
  }

 private:
  Grid input_;
  GridInfo info_;
  double factor_, offset_;
};

class VoidedSource final : public GridSource {
 public:
  VoidedSource(Grid input, double value) : input_(std::move(input)), value_(static_cast<float>(value)) {}
  const GridInfo& info() const override { return input_.info(); }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void expect(const Window& w) const override { input_.expect(w); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        if (out.row(r)[c] == value_) out.blank(c, r);
  }

 private:
  Grid input_;
  float value_;
};

SampleType with_sign(SampleType t) {
  switch (t) {
    case SampleType::UInt8:
      return SampleType::Int16;
    case SampleType::UInt16:
      return SampleType::Int32;
    case SampleType::UInt32:
    case SampleType::UInt64:
      return SampleType::Int64;
    default:
      return t;
  }
}

}  // namespace

Frame half_frame(const Frame& f) {
  return {f.crs(), f.west(), f.north(), {2 * f.cell().x, 2 * f.cell().y}, (f.cols() + 1) / 2, (f.rows() + 1) / 2};
}

std::optional<Grid> Grid::half() const {
  auto source = source_->half();
  return source ? std::optional(Grid(std::move(source))) : std::nullopt;
}

Grid grid_from_values(const Frame& frame, std::vector<float> values, const Quantity& quantity, SampleType type,
                      const std::string& name) {
  if (static_cast<std::int64_t>(values.size()) != frame.cols() * frame.rows())
    throw Error(ErrorCode::BadArgument,
                fmt::format("{} values do not fill {} x {} cells", values.size(), frame.cols(), frame.rows()), name);
  return Grid(std::make_shared<ValuesSource>(simple_info(frame, quantity, type, name), std::move(values)));
}

Grid grid_from_function(const Frame& frame, std::function<double(double, double)> f, const Quantity& quantity,
                        const std::string& name) {
  return Grid(std::make_shared<FunctionSource>(simple_info(frame, quantity, SampleType::Float32, name), std::move(f)));
}

Grid scaled(const Grid& grid, double factor, double offset, const std::function<void(GridInfo&)>& change) {
  GridInfo info = grid.info();
  if (is_integer(info.type) && (std::abs(factor) != 1 || offset != std::round(offset))) {
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  if (change) change(info);
  assert(info.frame.cols() == grid.frame().cols() && info.frame.rows() == grid.frame().rows());
  return Grid(std::make_shared<ScaledSource>(grid, std::move(info), factor, offset));
}

Grid relabelled(const Grid& grid, const std::function<void(GridInfo&)>& change) { return scaled(grid, 1, 0, change); }

Grid with_void(const Grid& grid, double value) {
  return std::isnan(value) ? grid : Grid(std::make_shared<VoidedSource>(grid, value));
}

Grid depths_as_heights(const Grid& grid) {
  return scaled(grid, -1, 0, [](GridInfo& info) {
    info.type = with_sign(info.type);
    info.notes.push_back("depths, positive down, were turned into heights");
    for (SourceRecord& s : info.sources)
      s.treatment += (s.treatment.empty() ? "" : ", ") + std::string("depths turned");
  });
}

Grid in_unit(const Grid& grid, LengthUnit unit) {
  const LengthUnit from = grid.quantity().unit;
  if (!grid.quantity().unit_known) {
    const Grid told = relabelled(grid, [&](GridInfo& info) {
      info.quantity.unit_known = true;
      info.notes.push_back(fmt::format("{}: does not say in which unit its heights are: {} was taken for granted",
                                       info.name, symbol(from)));
    });
    return in_unit(told, unit);
  }
  if (from == unit) return grid;
  return scaled(grid, metres_per(from) / metres_per(unit), 0, [&](GridInfo& info) {
    info.quantity.unit = unit;
    const std::string done = fmt::format("{} to {}", symbol(from), symbol(unit));
    info.notes.push_back(fmt::format("{}: heights converted from {} to {}", info.name, symbol(from), symbol(unit)));
    for (SourceRecord& s : info.sources) s.treatment += (s.treatment.empty() ? "" : ", ") + done;
  });
}

// ----------------------------------------------------------------------------------------------------------- bands

std::int64_t band_rows(std::int64_t cols, const RunOptions& options) {
  // A few bands a thread are under way at once; a quarter of the budget is theirs, with a second plane. Thin bands of
  // wide grids are dear: each is read with the rows around it. Thick ones bring fresh memory each time (take_memory
  // keeps 20 MiB a thread), which the system clears, and nothing of them is near when it is wanted.
  constexpr std::int64_t kHandy = 3 << 19, kThin = 32;
  const auto room = static_cast<std::int64_t>(options.memory / 4) / (2 * thread_count(options));
  const std::int64_t most = std::min<std::int64_t>(options.block, std::max(kThin, kHandy / cols));
  return std::clamp<std::int64_t>(room / (cols * 8), 1, std::max<std::int64_t>(1, most));
}

void map_bands(const Grid& grid, Planes planes, std::int64_t halo, const RunOptions& options,
               const std::function<std::shared_ptr<void>(Block, const Window&)>& map,
               const std::function<void(std::shared_ptr<void>)>& reduce) {
  const Frame& f = grid.frame();
  const std::int64_t rows = band_rows(f.cols(), options);
  grid.expect(f.window());
  const auto bands = static_cast<std::size_t>((f.rows() + rows - 1) / rows);
  parallel_ordered(
      bands, static_cast<std::size_t>(2 * thread_count(options)), options,
      [&](std::size_t i) {
        const std::int64_t row = static_cast<std::int64_t>(i) * rows;
        const Window band{0, row, f.cols(), std::min(rows, f.rows() - row)};
        return map(grid.read({0, row - halo, band.cols, band.rows + 2 * halo}, planes), band);
      },
      [&](std::size_t, std::shared_ptr<void> result) { reduce(std::move(result)); });
}

void for_each_band(const Grid& grid, Planes planes, const RunOptions& options,
                   const std::function<void(const Block&)>& body) {
  map_bands(
      grid, planes, 0, options,
      [](Block block, const Window&) -> std::shared_ptr<void> { return std::make_shared<Block>(std::move(block)); },
      [&](std::shared_ptr<void> block) { body(*static_cast<Block*>(block.get())); });
}

}  // namespace katoptra
