#include "bag_varres.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "grid/error_kernel.hpp"

namespace katoptra {
namespace {

constexpr std::uint32_t kNoRefinement = 0xffffffff;
constexpr double kAsFine = 1.5;  // cells: nodes no further apart are taken as they are

// One record of the overview.
struct Refinement {
  std::uint32_t index = kNoRefinement, nx = 0, ny = 0;
  float step_x = 0, step_y = 0;    // between nodes
  float first_x = 0, first_y = 0;  // of the first node, from the south-west corner of the cell
  bool is() const { return index != kNoRefinement && nx > 0 && ny > 0; }
};
struct Node {
  float height, uncertainty;
};

Id refinement_type() {
  Id t(H5Tcreate(H5T_COMPOUND, sizeof(Refinement)), H5Tclose);
  H5Tinsert(t.get(), "index", HOFFSET(Refinement, index), H5T_NATIVE_UINT32);
  H5Tinsert(t.get(), "dimensions_x", HOFFSET(Refinement, nx), H5T_NATIVE_UINT32);
  H5Tinsert(t.get(), "dimensions_y", HOFFSET(Refinement, ny), H5T_NATIVE_UINT32);
  H5Tinsert(t.get(), "resolution_x", HOFFSET(Refinement, step_x), H5T_NATIVE_FLOAT);
  H5Tinsert(t.get(), "resolution_y", HOFFSET(Refinement, step_y), H5T_NATIVE_FLOAT);
  H5Tinsert(t.get(), "sw_corner_x", HOFFSET(Refinement, first_x), H5T_NATIVE_FLOAT);
  H5Tinsert(t.get(), "sw_corner_y", HOFFSET(Refinement, first_y), H5T_NATIVE_FLOAT);
  return t;
}
Id node_type() {
  Id t(H5Tcreate(H5T_COMPOUND, sizeof(Node)), H5Tclose);
  H5Tinsert(t.get(), "depth", HOFFSET(Node, height), H5T_NATIVE_FLOAT);
  H5Tinsert(t.get(), "depth_uncrt", HOFFSET(Node, uncertainty), H5T_NATIVE_FLOAT);
  return t;
}

[[noreturn]] void damaged_refinements(const std::string& what, const Hdf5File& file) {
  throw Error(ErrorCode::BadFile, what, file.name(), "it is damaged; fetch it again");
}

// All records, rows from the south; with the lock held.
std::vector<Refinement> read_records(const Hdf5File& file, std::size_t plane) {
  const auto size = size_of(file.plane(plane));
  if (!size || size->first == 0 || size->second == 0) damaged_refinements("its table of refinements is damaged", file);
  if (size->first > static_cast<hsize_t>(kMostRefined) / size->second)
    throw Error(ErrorCode::TooLarge, fmt::format("has {} x {} cells that may be refined", size->first, size->second),
                file.name(), "cut it where it was made, or read --band overview");
  std::vector<Refinement> all(static_cast<std::size_t>(size->first * size->second));
  const Id type = refinement_type();
  if (H5Dread(file.plane(plane).get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, all.data()) < 0)
    damaged_refinements("its table of refinements cannot be read", file);
  return all;
}

// How many nodes there are; with the lock held.
std::uint64_t nodes_in(const Hdf5File& file, std::size_t plane) {
  const Id space(file.plane(plane).ok() ? H5Dget_space(file.plane(plane).get()) : -1, H5Sclose);
  const hssize_t n = space.ok() ? H5Sget_simple_extent_npoints(space.get()) : -1;
  return n > 0 ? static_cast<std::uint64_t>(n) : 0;
}

BlockCache::Bytes read_nodes(const Hdf5File& file, std::size_t plane, std::uint64_t first, std::uint64_t count) {
  BlockCache::Bytes out(static_cast<std::size_t>(count) * sizeof(Node), 0);
  std::lock_guard lock(container_lock());
  const Id type = node_type(), space(H5Dget_space(file.plane(plane).get()), H5Sclose);
  // One row of nodes, or none but a row.
  const int dims = H5Sget_simple_extent_ndims(space.get());
  const hsize_t start[2] = {dims == 2 ? 0 : first, first}, many[2] = {dims == 2 ? 1 : count, count};
  const Id memory(H5Screate_simple(1, &many[1], nullptr), H5Sclose);
  if ((dims != 1 && dims != 2) || H5Sselect_hyperslab(space.get(), H5S_SELECT_SET, start, nullptr, many, nullptr) < 0 ||
      H5Dread(file.plane(plane).get(), type.get(), memory.get(), space.get(), H5P_DEFAULT, out.data()) < 0)
    damaged_refinements(fmt::format("nodes from {} on cannot be read", first), file);
  file.expect_unchanged();
  return out;
}

void judge_records(const std::vector<Refinement>& all, std::uint64_t nodes, const Frame& overview,
                   const Hdf5File& file) {
  for (std::size_t i = 0; i < all.size(); ++i) {
    const Refinement& r = all[i];
    if (!r.is()) continue;
    const auto where = [&] {
      const auto cols = static_cast<std::size_t>(overview.cols());
      return fmt::format("the refinement of cell {}, {} (from the south-west)", i % cols, i / cols);
    };
    const std::uint64_t count = std::uint64_t{r.nx} * r.ny;
    if (count > nodes || r.index > nodes - count)
      damaged_refinements(fmt::format("{} points outside the file: nodes {} to {} of {}", where(), r.index,
                                      std::uint64_t{r.index} + count - 1, nodes),
                          file);
    const auto sound = [](float step, float first) { return std::isfinite(step) && step > 0 && std::isfinite(first); };
    if (!sound(r.step_x, r.first_x) || !sound(r.step_y, r.first_y))
      damaged_refinements(fmt::format("{} has nodes every {} x {}", where(), r.step_x, r.step_y), file);
  }
}

// How many of the finest cells there are to one of the overview.
std::int64_t parts_of(double cell, double finest) {
  return std::max<std::int64_t>(1, static_cast<std::int64_t>(std::ceil(cell / finest - 0.01)));
}

class VarresSource final : public GridSource {
 public:
  VarresSource(std::shared_ptr<const Hdf5File> file, std::size_t plane, std::vector<Refinement> records,
               const Frame& overview, std::int64_t kx, std::int64_t ky, GridInfo info)
      : file_(std::move(file)),
        plane_(plane),
        records_(std::move(records)),
        overview_(overview),
        kx_(kx),
        ky_(ky),
        info_(std::move(info)),
        owner_(BlockCache::shared().new_owner()) {}
  ~VarresSource() override { BlockCache::shared().forget(owner_); }
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return true; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    for (std::int64_t J = w.row / ky_; J <= (w.row + w.rows - 1) / ky_; ++J)
      for (std::int64_t I = w.col / kx_; I <= (w.col + w.cols - 1) / kx_; ++I) {
        const Window cell = Window{I * kx_, J * ky_, kx_, ky_}.intersected(w);
        fill(I, J, cell, out.part(cell));
      }
  }

 private:
  // One cell of the overview: column I, row J from the north.
  void fill(std::int64_t I, std::int64_t J, const Window& place, const BlockView& to) const {
    const auto number = static_cast<std::size_t>((overview_.rows() - 1 - J) * overview_.cols() + I);
    const Refinement& r = records_[number];
    if (!r.is()) {
      for (std::int64_t y = 0; y < place.rows; ++y)
        for (std::int64_t x = 0; x < place.cols; ++x) to.blank(x, y);
      return;
    }
    const auto bytes = BlockCache::shared().get(
        owner_, number, [&] { return read_nodes(*file_, plane_, r.index, std::uint64_t{r.nx} * r.ny); });
    const double wide = overview_.cell().x / static_cast<double>(kx_),
                 high = overview_.cell().y / static_cast<double>(ky_);
    const bool fine =
        static_cast<double>(r.step_x) <= kAsFine * wide && static_cast<double>(r.step_y) <= kAsFine * high;
    for (std::int64_t y = 0; y < place.rows; ++y)
      for (std::int64_t x = 0; x < place.cols; ++x) {
        // From the south-west corner of the cell, in steps from its first node.
        const double fx = ((static_cast<double>(place.col + x - I * kx_) + 0.5) * wide -
                           static_cast<double>(r.first_x)) /
                          static_cast<double>(r.step_x),
                     fy = ((static_cast<double>((J + 1) * ky_ - 1 - place.row - y) + 0.5) * high -
                           static_cast<double>(r.first_y)) /
                          static_cast<double>(r.step_y);
        put(to, x, y, fine ? nearest(*bytes, r, fx, fy) : between(*bytes, r, fx, fy));
      }
  }

  static Node node(const BlockCache::Bytes& bytes, const Refinement& r, std::int64_t i, std::int64_t j) {
    Node n{};
    std::memcpy(&n, bytes.data() + static_cast<std::size_t>(j * r.nx + i) * sizeof(Node), sizeof n);
    for (float* v : {&n.height, &n.uncertainty})
      if (*v == static_cast<float>(kSeaVoid) || !(std::abs(*v) < 1e38f)) *v = kVoid;
    return n;
  }
  static Node nearest(const BlockCache::Bytes& bytes, const Refinement& r, double fx, double fy) {
    return node(bytes, r, std::clamp<std::int64_t>(std::llround(fx), 0, r.nx - 1),
                std::clamp<std::int64_t>(std::llround(fy), 0, r.ny - 1));
  }
  // Between four nodes of the refinement; a place whose nearest node is a void is one. What the nodes err by they are
  // taken to err by together.
  static Node between(const BlockCache::Bytes& bytes, const Refinement& r, double fx, double fy) {
    if (std::isnan(nearest(bytes, r, fx, fy).height)) return {kVoid, kVoid};
    const double cx = std::clamp(fx, 0.0, static_cast<double>(r.nx - 1)),
                 cy = std::clamp(fy, 0.0, static_cast<double>(r.ny - 1));
    const auto i = static_cast<std::int64_t>(cx), j = static_cast<std::int64_t>(cy);
    double weight = 0, height = 0, doubt = 0;
    for (std::int64_t b = 0; b < 2; ++b)
      for (std::int64_t a = 0; a < 2; ++a) {
        const double wx = a ? cx - static_cast<double>(i) : 1 - cx + static_cast<double>(i),
                     wy = b ? cy - static_cast<double>(j) : 1 - cy + static_cast<double>(j);
        if (!(wx * wy > 0)) continue;
        const Node n = node(bytes, r, std::min<std::int64_t>(i + a, r.nx - 1), std::min<std::int64_t>(j + b, r.ny - 1));
        if (std::isnan(n.height)) continue;
        weight += wx * wy;
        height += wx * wy * static_cast<double>(n.height);
        doubt += wx * wy * static_cast<double>(n.uncertainty);
      }
    return {static_cast<float>(height / weight), rounded_uncertainty(doubt / weight)};
  }
  static void put(const BlockView& to, std::int64_t x, std::int64_t y, const Node& n) {
    to.row(y)[x] = n.height;
    if (to.origin) to.origin_row(y)[x] = std::isnan(n.height) ? 0 : origin_code(1, How::Measured);
    if (to.uncertainty) to.uncertainty_row(y)[x] = std::isnan(n.height) || n.uncertainty < 0 ? kVoid : n.uncertainty;
  }

  std::shared_ptr<const Hdf5File> file_;
  std::size_t plane_;
  std::vector<Refinement> records_;
  Frame overview_;
  std::int64_t kx_, ky_;
  GridInfo info_;
  std::uint64_t owner_;
};

}  // namespace

Grid open_refinements(std::shared_ptr<const Hdf5File> file, std::size_t metadata, std::size_t refinements,
                      const Frame& overview, const GridInfo& given) {
  std::vector<Refinement> records;
  std::uint64_t nodes = 0;
  {
    std::lock_guard lock(container_lock());
    const auto size = size_of(file->plane(metadata));
    if (!size || static_cast<std::int64_t>(size->first) != overview.cols() ||
        static_cast<std::int64_t>(size->second) != overview.rows())
      damaged_refinements("its table of refinements is not of the size of its overview", *file);
    records = read_records(*file, metadata);
    nodes = nodes_in(*file, refinements);
  }
  judge_records(records, nodes, overview, *file);
  double finest_x = overview.cell().x, finest_y = overview.cell().y, coarsest = 0;
  for (const Refinement& r : records) {
    if (!r.is()) continue;
    finest_x = std::min(finest_x, static_cast<double>(r.step_x));
    finest_y = std::min(finest_y, static_cast<double>(r.step_y));
    coarsest = std::max({coarsest, static_cast<double>(r.step_x), static_cast<double>(r.step_y)});
  }
  constexpr double kMostParts = 65536;  // of a cell of the overview, along its side
  if (!(overview.cell().x / finest_x < kMostParts) || !(overview.cell().y / finest_y < kMostParts))
    damaged_refinements(
        fmt::format("its finest nodes lie {:g} x {:g} apart in cells of {:g}", finest_x, finest_y, overview.cell().x),
        *file);
  const std::int64_t kx = parts_of(overview.cell().x, finest_x), ky = parts_of(overview.cell().y, finest_y);
  GridInfo info = given;
  const CellSize cell{overview.cell().x / static_cast<double>(kx), overview.cell().y / static_cast<double>(ky)};
  if (overview.cols() > 0x7fffffff / kx || overview.rows() > 0x7fffffff / ky)
    damaged_refinements(fmt::format("its finest nodes lie {:g} apart, too near for its extent", finest_x), *file);
  info.frame =
      Frame(overview.crs(), overview.west(), overview.north(), cell, overview.cols() * kx, overview.rows() * ky);
  if (coarsest > kAsFine * std::max(cell.x, cell.y))
    info.notes.push_back(
        fmt::format("has refinements with nodes every {:g} to {:g}: all of it is told on cells of the finest, bilinear "
                    "between the nodes "
                    "of coarser ones; bring it to a cell of your own with reproject --cell",
                    std::min(finest_x, finest_y), coarsest));
  return Grid(std::make_shared<VarresSource>(std::move(file), refinements, std::move(records), overview, kx, ky,
                                             std::move(info)));
}

void look_through_refinements(const std::shared_ptr<const Hdf5File>& file, std::size_t metadata,
                              std::size_t refinements) {
  std::uint64_t nodes = 0;
  {
    std::lock_guard lock(container_lock());
    read_records(*file, metadata);
    nodes = nodes_in(*file, refinements);
  }
  constexpr std::uint64_t kPiece = 65536;
  for (const std::uint64_t first : {std::uint64_t{0}, nodes / 2, nodes > kPiece ? nodes - kPiece : 0})
    if (first < nodes) read_nodes(*file, refinements, first, std::min(kPiece, nodes - first));
}

}  // namespace katoptra
