// S-102, the bathymetric surface of IHO (editions 2.0 to 2.2): depths, positive down, and their uncertainty as records
// of an HDF5 file by the rules of S-100, at nodes from the south-west. Several instances or groups: the first is read.
#include "s102.hpp"

#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "formats/readers.hpp"
#include "guard.hpp"
#include "hdf5_file.hpp"

namespace katoptra {
namespace {

constexpr const char* kInstance = "BathymetryCoverage/BathymetryCoverage.01";
constexpr std::size_t kDepth = 0, kSure = 1;

std::string values_path(const Hdf5File& file) {
  for (const char* group : {"Group_001", "Group.001"})
    if (const std::string path = fmt::format("{}/{}/values", kInstance, group); file.has(path)) return path;
  return {};
}

Crs crs_of(const Hdf5File& file, FileFacts& facts) {
  const auto code = file.number("", "horizontalCRS"), older = file.number("", "horizontalDatumValue");
  if (!code && !older) return {};
  facts.crs_name = fmt::format("EPSG:{:.0f}", code ? *code : *older);
  try {
    return Crs::parse(facts.crs_name);
  } catch (const Error& e) {
    facts.problems.push_back("its CRS is not understood: " + e.problem());
    return {};
  }
}

HeightReference heights_of(const Hdf5File& file) {
  const auto datum = file.number("", "verticalDatum");
  if (!datum) return {};
  const auto code = static_cast<int>(*datum);
  if (file.number("", "verticalDatumReference").value_or(1) == 2) try {
      return HeightReference::from_epsg(code).as_heights();
    } catch (const Error&) {
      return HeightReference::named(fmt::format("EPSG:{}", code));
    }
  for (const s102::Datum& d : s102::kDatums)
    if (d.code == code) return d.known ? HeightReference::parse(d.name) : HeightReference::named(d.name);
  return HeightReference::named(fmt::format("S-100 vertical datum {}", code));
}

FileLattice lattice_of_s102(const Hdf5File& file, std::int64_t cols, std::int64_t rows) {
  FileLattice l{.crs = {}, .cols = cols, .rows = rows, .centre = true, .askew = {}};
  const struct {
    const char* name;
    double* to;
  } wanted[] = {{"gridOriginLongitude", &l.x},
                {"gridOriginLatitude", &l.y},
                {"gridSpacingLongitudinal", &l.dx},
                {"gridSpacingLatitudinal", &l.dy}};
  for (const auto& [name, to] : wanted) {
    const auto v = file.number(kInstance, name);
    if (!v || !std::isfinite(*v))
      throw Error(ErrorCode::BadFile, fmt::format("does not say its {}", name), file.name(),
                  "get the file as it was published");
    *to = *v;
  }
  if (!(l.dx > 0) || !(l.dy > 0))
    throw Error(ErrorCode::BadFile, fmt::format("its cells are {} x {}", l.dx, l.dy), file.name(),
                "it is damaged; fetch it again");
  return l;
}

std::string iso_date_of(const std::string& d) {
  if (d.size() == 8 && d.find_first_not_of("0123456789") == d.npos)
    return d.substr(0, 4) + "-" + d.substr(4, 2) + "-" + d.substr(6);
  return d.size() >= 10 && d[4] == '-' ? d.substr(0, 10) : std::string();
}

}  // namespace

bool holds_s102(const Located& file) {
  const Hdf5File f(file);
  std::lock_guard lock(container_lock());
  return !values_path(f).empty();
}

GridFile open_s102(const Located& located, const OpenOptions& options) {
  auto file = std::make_shared<Hdf5File>(located);
  std::unique_lock lock(container_lock());
  const std::string path = values_path(*file);
  if (path.empty()) throw Error(ErrorCode::BadFile, "has no bathymetric coverage", file->name(), "fetch it again");
  file->open_planes({path, path});
  const auto size = size_of(file->plane(kDepth));
  if (!size || size->first == 0 || size->second == 0 || size->first > 0x7fffffff || size->second > 0x7fffffff)
    throw Error(ErrorCode::BadFile, "its plane of depths is damaged", file->name(), "fetch it again");
  const auto cols = static_cast<std::int64_t>(size->first), rows = static_cast<std::int64_t>(size->second);
  GridFile out;
  out.facts.format = "S-102";
  FileLattice lattice = lattice_of_s102(*file, cols, rows);
  lattice.crs = crs_of(*file, out.facts);
  const HeightReference heights = heights_of(*file);
  const auto chunk = chunk_rows(file->plane(kDepth));
  const bool sure = s102::has_member(file->plane(kDepth), "uncertainty");
  out.facts.date = iso_date_of(file->text("", "issueDate"));
  out.facts.description = file->text("", "productSpecification");
  const double instances = file->number("BathymetryCoverage", "numInstances").value_or(1);
  lock.unlock();

  out.facts.layout = chunk > 0 ? "chunks, south first" : "rows, south first";
  out.facts.pixel_is_point = true;
  out.facts.bands = {"depth"};
  out.facts.band = "depth";
  if (sure) out.facts.bands.push_back("uncertainty");
  if (instances > 1)
    out.facts.problems.push_back(fmt::format("has {:g} coverages, of which the first is read", instances));
  GridInfo info;
  info.frame = lattice.frame();
  info.quantity.heights = heights;
  info.quantity.unit_known = true;  // the format has metres
  info.quantity.surface = SurfaceKind::SeaFloor;
  const SampleRule rule{.type = SampleType::Float32, .hole = kSeaVoid};
  describe_samples(rule, info);
  const std::int64_t per_block = rows_of_chunks(chunk, cols, SampleType::Float32);
  const auto plane = [&](const GridInfo& about, std::size_t which, const char* member) {
    return turned(grid_of_rows(about, rule, per_block, Plane(file, which, cols, member)), lattice);
  };
  out.grid = depths_as_heights(plane(info, kDepth, "depth"));
  out.facts.depths_turned = true;
  GridInfo about = info;
  about.quantity = {.kind = QuantityKind::Uncertainty, .unit_known = true};
  about.name = "the uncertainty of " + file->name();
  if (sure) out.grid = with_uncertainty(out.grid, plane(about, kSure, "uncertainty"));
  if (options.band == "uncertainty" || options.band == "2") {
    if (!sure) throw Error(ErrorCode::BadArgument, "has no uncertainty", file->name(), "leave --band out");
    out.grid = plane(about, kSure, "uncertainty");
    out.facts.band = "uncertainty";
    out.facts.depths_turned = false;
  } else if (!options.band.empty() && options.band != "depth" && options.band != "1") {
    throw Error(ErrorCode::BadArgument, fmt::format("has no band '{}'", options.band), file->name(),
                "it has depth and uncertainty");
  }
  return out;
}

void look_through_s102(const Located& located) {
  auto file = std::make_shared<Hdf5File>(located);
  const std::string path = values_path(*file);
  file->open_planes({path, path});
  FileFacts facts;
  crs_of(*file, facts);
  for (const char* a : {"gridOriginLongitude", "gridSpacingLatitudinal"}) file->number(kInstance, a);
  file->text("", "issueDate");
  const auto size = size_of(file->plane(kDepth));
  if (!size || size->first == 0 || size->second == 0 || size->first > 0x7fffffff || size->second > 0x7fffffff) return;
  const auto cols = static_cast<std::int64_t>(size->first), rows = static_cast<std::int64_t>(size->second);
  for (const char* member : {"depth", "uncertainty"})
    if (s102::has_member(file->plane(kDepth), member))
      try_blocks(cols, rows, SampleType::Float32,
                 rows_of_chunks(chunk_rows(file->plane(kDepth)), cols, SampleType::Float32),
                 Plane(file, kDepth, cols, member));
}

namespace s102 {

bool has_member(const Id& plane, const char* member) {
  const Id type(H5Dget_type(plane.get()), H5Tclose);
  return H5Tget_class(type.get()) == H5T_COMPOUND && H5Tget_member_index(type.get(), member) >= 0;
}

}  // namespace s102

}  // namespace katoptra
