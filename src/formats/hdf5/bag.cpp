// BAG, the bathymetric grid in HDF5: elevations (positive up) and their uncertainty at nodes, from the south-west, with
// ISO 19139 metadata that say where and above what.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <functional>
#include <hdf5.h>
#include <pugixml.hpp>
#include <sstream>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "bag_varres.hpp"
#include "base/text.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "guard.hpp"
#include "hdf5_file.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kElevation = 0, kUncertainty = 1, kMetadata = 2, kRefinements = 3;  // planes

std::string metadata_of(const Hdf5File& file) {
  if (!file.has("BAG_root/metadata")) return {};
  const Id data = file.dataset("BAG_root/metadata");
  Id space(data.ok() ? H5Dget_space(data.get()) : -1, H5Sclose),
      type(data.ok() ? H5Dget_type(data.get()) : -1, H5Tclose);
  if (!space.ok() || !type.ok()) return {};
  const hssize_t n = H5Sget_simple_extent_npoints(space.get());
  const std::size_t size = H5Tget_size(type.get());
  // Characters one by one, or a single text of fixed length.
  if (n <= 0 || H5Tget_class(type.get()) != H5T_STRING || H5Tis_variable_str(type.get()) > 0 ||
      static_cast<std::uint64_t>(n) * size > (std::uint64_t{64} << 20))
    return {};
  std::string text(static_cast<std::size_t>(n) * size, '\0');
  if (H5Dread(data.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, text.data()) < 0) return {};
  return text.substr(0, text.find('\0'));
}

// ISO 19139 has namespaces whose prefixes differ from file to file: nodes are found by their own name.
std::string local(const pugi::xml_node& n) {
  const std::string name = n.name();
  const auto colon = name.find(':');
  return colon == name.npos ? name : name.substr(colon + 1);
}
std::vector<pugi::xml_node> all_named(const pugi::xml_node& root, const std::string& name) {
  std::vector<pugi::xml_node> out, open{root};
  while (!open.empty()) {
    const pugi::xml_node n = open.back();
    open.pop_back();
    if (local(n) == name) out.push_back(n);
    std::vector<pugi::xml_node> children(n.children().begin(), n.children().end());
    open.insert(open.end(), children.rbegin(), children.rend());
  }
  return out;
}
std::string text_below(const pugi::xml_node& n) {
  std::string text;
  for (const pugi::xml_node& c : n.children()) {
    if (c.type() == pugi::node_pcdata || c.type() == pugi::node_cdata) text += c.value();
    text += text_below(c);
  }
  const auto first = text.find_first_not_of(" \t\r\n"), last = text.find_last_not_of(" \t\r\n");
  return first == text.npos ? "" : text.substr(first, last - first + 1);
}
std::vector<double> numbers_in(std::string text) {
  std::replace(text.begin(), text.end(), ',', ' ');
  std::istringstream words(text);
  std::vector<double> out;
  for (std::string w; words >> w;)
    if (const auto v = parse_number(w)) out.push_back(*v);
  return out;
}

struct Metadata {
  std::optional<Point> south_west, north_east;  // nodes
  std::vector<double> resolution;
  Crs crs;
  HeightReference heights;
  std::string crs_name, date, title;
  std::vector<std::string> problems;
};

void read_references(const pugi::xml_node& root, Metadata& m) {
  for (const pugi::xml_node& system : all_named(root, "referenceSystemInfo"))
    for (const pugi::xml_node& code : all_named(system, "code")) {
      const std::string text = text_below(code);
      if (text.empty()) continue;
      const bool vertical = text.starts_with("VERT") || m.crs.known();
      try {
        if (vertical) {
          if (!m.heights.known()) m.heights = HeightReference::parse(text);
        } else {
          m.crs_name = text.substr(0, 60);
          m.crs = Crs::parse(text);
          m.heights = m.crs.heights();
        }
      } catch (const Error& e) {
        if (vertical)
          m.heights = HeightReference::named(text.substr(0, 60));
        else
          m.problems.push_back("its CRS is not understood: " + e.problem());
      }
    }
}

Metadata read_metadata(const std::string& xml) {
  Metadata m;
  pugi::xml_document doc;
  if (xml.empty() || !doc.load_buffer(xml.data(), xml.size())) {
    m.problems.push_back("its metadata cannot be read");
    return m;
  }
  for (const pugi::xml_node& corners : all_named(doc, "cornerPoints")) {
    const auto v = numbers_in(text_below(corners));
    if (v.size() >= 4) {
      m.south_west = Point{v[0], v[1]};
      m.north_east = Point{v[2], v[3]};
    }
  }
  for (const pugi::xml_node& r : all_named(doc, "resolution")) {
    const auto v = numbers_in(text_below(r));
    if (v.size() == 1) m.resolution.push_back(v[0]);
  }
  for (const pugi::xml_node& t : all_named(doc, "title"))
    if (m.title.empty()) m.title = text_below(t);
  for (const pugi::xml_node& d : all_named(doc, "dateStamp")) {
    const std::string date = text_below(d);
    if (date.size() >= 10 && date[4] == '-') m.date = date.substr(0, 10);
  }
  read_references(doc, m);
  return m;
}

FileLattice lattice_of(const Metadata& m, std::int64_t cols, std::int64_t rows, const std::string& file) {
  if (!m.south_west || !m.north_east)
    throw Error(ErrorCode::BadFile, "its metadata do not say where it lies (no corner points)", file,
                "get the file as it was published");
  FileLattice l;
  l.crs = m.crs;
  l.cols = cols;
  l.rows = rows;
  l.centre = true;
  l.x = m.south_west->x;
  l.y = m.south_west->y;
  l.dx = cols > 1               ? (m.north_east->x - l.x) / static_cast<double>(cols - 1)
         : m.resolution.empty() ? 1
                                : m.resolution[0];
  l.dy = rows > 1 ? (m.north_east->y - l.y) / static_cast<double>(rows - 1) : l.dx;
  if (!(l.dx > 0) || !(l.dy > 0) || !std::isfinite(l.dx) || !std::isfinite(l.dy))
    throw Error(ErrorCode::BadFile, "its corner points do not make a grid", file, "its metadata are damaged");
  // Some files give the corners of the outer cells instead of their centres: the resolution tells.
  if (!m.resolution.empty() && cols > 1) {
    const double outer = (m.north_east->x - l.x) / static_cast<double>(cols);
    if (std::abs(outer - m.resolution[0]) < std::abs(l.dx - m.resolution[0]) * 1e-3) {
      l.centre = false;
      l.dx = outer;
      l.dy = (m.north_east->y - l.y) / static_cast<double>(rows);
    }
  }
  return l;
}

GridFile with_band_of_refinements(GridFile file, const OpenOptions& options, const std::string& name) {
  if (options.band == "uncertainty" || options.band == "2") {
    file.grid = uncertainty_of(file.grid);
    file.facts.band = "uncertainty";
  } else if (!options.band.empty() && options.band != "elevation" && options.band != "1") {
    throw Error(ErrorCode::BadArgument, fmt::format("has no band '{}'", options.band), name,
                "it has elevation, uncertainty and overview");
  }
  return file;
}

}  // namespace

void keep_containers_quiet() { H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr); }

bool is_hdf5(std::span<const std::uint8_t> head) {
  return head.size() >= 8 && std::memcmp(head.data(), "\211HDF\r\n\032\n", 8) == 0;
}

bool holds_bag(const Located& file) {
  const Hdf5File bag(file);
  std::lock_guard lock(container_lock());
  return bag.has("BAG_root/elevation");
}

GridFile open_bag(const Located& located, const OpenOptions& options) {
  auto file = std::make_shared<Hdf5File>(located);
  std::unique_lock lock(container_lock());
  file->open_planes({"BAG_root/elevation", "BAG_root/uncertainty", kVarresMetadata, kVarresRefinements});
  const auto size = size_of(file->plane(kElevation));
  if (!size || size->first == 0 || size->second == 0 || size->first > 0x7fffffff || size->second > 0x7fffffff)
    throw Error(ErrorCode::BadFile, "its plane of elevations is damaged", file->name(), "fetch it again");
  const auto cols = static_cast<std::int64_t>(size->first), rows = static_cast<std::int64_t>(size->second);
  const Metadata m = read_metadata(metadata_of(*file));
  const FileLattice lattice = lattice_of(m, cols, rows, file->name());
  const auto chunk = chunk_rows(file->plane(kElevation));
  const bool has_uncertainty = size_of(file->plane(kUncertainty)) == size,
             refined = file->plane(kMetadata).ok() && file->plane(kRefinements).ok();
  lock.unlock();

  GridFile out;
  out.facts.format = "BAG";
  out.facts.layout = chunk > 0 ? "chunks, south first" : "rows, south first";
  out.facts.pixel_is_point = lattice.centre;
  out.facts.crs_name = m.crs_name;
  out.facts.date = m.date;
  out.facts.description = m.title;
  out.facts.problems = m.problems;
  out.facts.bands = {"elevation"};
  out.facts.band = "elevation";
  if (has_uncertainty) out.facts.bands.push_back("uncertainty");
  GridInfo info;
  info.frame = lattice.frame();
  info.quantity.heights = m.heights.as_heights();  // the format has elevations, positive up, whatever the system counts
  info.quantity.unit_known = true;                 // the format has metres
  info.quantity.surface = SurfaceKind::SeaFloor;
  const SampleRule rule{.type = SampleType::Float32, .hole = kSeaVoid};
  describe_samples(rule, info);
  const std::int64_t rows_per_block = rows_of_chunks(chunk, cols, SampleType::Float32);
  const auto plane = [&](std::size_t which, const GridInfo& about) {
    return turned(grid_of_rows(about, rule, rows_per_block, Plane(file, which, cols)), lattice);
  };
  if (refined && options.band != "overview") {
    out.grid = open_refinements(file, kMetadata, kRefinements, lattice.frame(), info);
    out.facts.layout = "refinements of variable resolution";
    out.facts.bands = {"elevation", "uncertainty", "overview"};
    return with_band_of_refinements(std::move(out), options, file->name());
  }
  out.grid = plane(kElevation, info);
  std::optional<Grid> uncertainty;
  if (has_uncertainty) {
    GridInfo about = info;
    about.quantity = {.kind = QuantityKind::Uncertainty, .unit_known = true};
    about.name = "the uncertainty of " + file->name();
    uncertainty = plane(kUncertainty, about);
    out.grid = with_uncertainty(out.grid, *uncertainty);
  }
  if (options.band == "uncertainty" || options.band == "2") {
    if (!uncertainty)
      throw Error(ErrorCode::BadArgument, "has no plane of uncertainty", file->name(), "leave --band out");
    out.grid = *uncertainty;
    out.facts.band = "uncertainty";
  } else if (!options.band.empty() && options.band != "elevation" && options.band != "1" &&
             !(refined && options.band == "overview")) {
    throw Error(ErrorCode::BadArgument, fmt::format("has no band '{}'", options.band), file->name(),
                "it has elevation and uncertainty");
  }
  return out;
}

namespace {

// What the library will be asked for: the header, and blocks of every plane. Nothing else is touched, for other threads
// may have held its locks when the copy was made.
void look_through(const Located& located) {
  auto file = std::make_shared<Hdf5File>(located);
  file->open_planes({"BAG_root/elevation", "BAG_root/uncertainty", kVarresMetadata, kVarresRefinements});
  metadata_of(*file);
  if (file->plane(kMetadata).ok() && file->plane(kRefinements).ok())
    look_through_refinements(file, kMetadata, kRefinements);
  for (const std::size_t plane : {kElevation, kUncertainty}) {
    const auto size = size_of(file->plane(plane));
    if (!size || size->first == 0 || size->second == 0) continue;
    const auto cols = static_cast<std::int64_t>(size->first), rows = static_cast<std::int64_t>(size->second);
    if (cols > 0x7fffffff || rows > 0x7fffffff) continue;
    try_blocks(cols, rows, SampleType::Float32,
               rows_of_chunks(chunk_rows(file->plane(kElevation)), cols, SampleType::Float32),
               Plane(file, plane, cols));
  }
}

}  // namespace

void look_through_bag(const Located& file) { look_through(file); }

}  // namespace katoptra
