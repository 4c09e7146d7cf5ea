// NetCDF, classic and 4, by the CF conventions: a height over two coordinate variables, in either order, running either
// way, packed or not. The library behind it has one lock for all; rows are read in pieces as high as the file's chunks.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <hdf5.h>
#include <limits>
#include <map>
#include <netcdf.h>
#include <netcdf_filter.h>
#include <netcdf_mem.h>
#include <sstream>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "base/text.hpp"
#include "cf_mapping.hpp"
#include "container.hpp"
#include "formats/bytes/descriptor.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "guard.hpp"

namespace katoptra {
namespace {

// An open file; every call through it holds the lock.
class NcFile {
 public:
  explicit NcFile(const Located& file) : name_(file.bytes->name()), path_(file.path), state_(file.path) {
    int status = 0;
    if (!file.path.empty()) {
      std::lock_guard lock(container_lock());
      status = nc_open(file.path.c_str(), NC_NOWRITE, &id_);
    } else {
      memory_ = container_bytes(file);
      std::lock_guard lock(container_lock());
      status = nc_open_mem("inside", NC_NOWRITE, memory_.size(), memory_.data(), &id_);
    }
    if (status != NC_NOERR) {
      id_ = -1;
      fail(status, "is not a readable NetCDF file");
    }
  }
  ~NcFile() {
    std::lock_guard lock(container_lock());
    if (id_ >= 0) nc_close(id_);
  }
  NcFile(const NcFile&) = delete;
  NcFile& operator=(const NcFile&) = delete;

  int id() const { return id_; }
  const std::string& name() const { return name_; }
  void expect_unchanged() const { state_.expect_at(path_, name_); }
  [[noreturn]] void fail(int status, const std::string& what) const {
    throw Error(ErrorCode::BadFile, fmt::format("{}: {}", what, nc_strerror(status)), name_,
                "it is damaged; fetch it again");
  }
  void expect(int status, const std::string& what) const {
    if (status != NC_NOERR) fail(status, what);
  }

 private:
  std::string name_;
  std::filesystem::path path_;
  FileState state_;
  int id_ = -1;
  std::vector<std::uint8_t> memory_;
};

struct Variable {
  int id = -1;
  std::string name;
  nc_type type = NC_NAT;
  std::vector<int> dims;
};

// Reading the header, with the lock held by the caller.
class NetcdfReader {
 public:
  explicit NetcdfReader(const NcFile& file) : file_(file), nc_(file.id()) {
    int n = 0;
    file_.expect(nc_inq_nvars(nc_, &n), "its list of variables is damaged");
    for (int v = 0; v < std::min(n, 10000); ++v) {
      char name[NC_MAX_NAME + 1] = {};
      int dims = 0;
      Variable variable;
      variable.id = v;
      if (nc_inq_var(nc_, v, name, &variable.type, &dims, nullptr, nullptr) != NC_NOERR || dims < 0) continue;
      variable.dims.resize(static_cast<std::size_t>(dims));
      if (dims > 0 && nc_inq_vardimid(nc_, v, variable.dims.data()) != NC_NOERR) continue;
      variable.name = name;
      variables_.push_back(std::move(variable));
    }
  }
  const std::vector<Variable>& variables() const { return variables_; }
  const Variable* find(const std::string& name) const {
    for (const Variable& v : variables_)
      if (v.name == name) return &v;
    return nullptr;
  }
  std::string text(int variable, const char* key) const {
    nc_type type = NC_NAT;
    std::size_t n = 0;
    if (nc_inq_att(nc_, variable, key, &type, &n) != NC_NOERR || n > (1u << 20)) return {};
    if (type == NC_CHAR) {
      std::string s(n, '\0');
      if (n > 0 && nc_get_att_text(nc_, variable, key, s.data()) != NC_NOERR) return {};
      return s.substr(0, std::strlen(s.c_str()));
    }
    if (type == NC_STRING && n == 1) {
      char* p = nullptr;
      if (nc_get_att_string(nc_, variable, key, &p) != NC_NOERR || !p) return {};
      std::string s = p;
      nc_free_string(1, &p);
      return s;
    }
    return {};
  }
  std::optional<double> number(int variable, const char* key) const {
    nc_type type = NC_NAT;
    std::size_t n = 0;
    double v = 0;
    if (nc_inq_att(nc_, variable, key, &type, &n) != NC_NOERR || n != 1 || type == NC_CHAR || type == NC_STRING)
      return std::nullopt;
    if (nc_get_att_double(nc_, variable, key, &v) != NC_NOERR) return std::nullopt;
    return v;
  }
  std::vector<double> numbers(int variable, const char* key) const {
    nc_type type = NC_NAT;
    std::size_t n = 0;
    if (nc_inq_att(nc_, variable, key, &type, &n) != NC_NOERR || n > 16 || type == NC_CHAR || type == NC_STRING)
      return {};
    std::vector<double> v(n);
    if (n > 0 && nc_get_att_double(nc_, variable, key, v.data()) != NC_NOERR) return {};
    return v;
  }
  // The value that the library itself puts where nothing was written; nothing for bytes, or where that was switched
  // off.
  std::optional<double> default_hole(const Variable& v) const {
    int off = 0;
    if (nc_inq_var_fill(nc_, v.id, &off, nullptr) == NC_NOERR && off) return std::nullopt;
    switch (v.type) {
      case NC_SHORT:
        return NC_FILL_SHORT;
      case NC_USHORT:
        return NC_FILL_USHORT;
      case NC_INT:
        return NC_FILL_INT;
      case NC_UINT:
        return NC_FILL_UINT;
      case NC_FLOAT:
        return static_cast<double>(NC_FILL_FLOAT);
      case NC_DOUBLE:
        return NC_FILL_DOUBLE;
      default:
        return std::nullopt;
    }
  }
  std::size_t length(int dim) const {
    std::size_t n = 0;
    file_.expect(nc_inq_dimlen(nc_, dim, &n), "its dimensions are damaged");
    return n;
  }
  std::string dim_name(int dim) const {
    char name[NC_MAX_NAME + 1] = {};
    return nc_inq_dimname(nc_, dim, name) == NC_NOERR ? name : "";
  }
  const Variable* coordinate(int dim) const {
    const Variable* v = find(dim_name(dim));
    return v && v->dims == std::vector<int>{dim} ? v : nullptr;
  }
  std::vector<double> values(const Variable& v) const {
    const std::size_t n = length(v.dims[0]);
    if (n > (std::size_t{1} << 28))
      throw Error(ErrorCode::TooLarge, fmt::format("'{}' claims {} values", v.name, n), file_.name());
    std::vector<double> out(n);
    file_.expect(nc_get_var_double(nc_, v.id, out.data()), fmt::format("'{}' cannot be read", v.name));
    return out;
  }
  std::int64_t chunk(const Variable& v, std::size_t which) const {
    int storage = NC_CONTIGUOUS;
    std::vector<std::size_t> sizes(v.dims.size());
    if (nc_inq_var_chunking(nc_, v.id, &storage, sizes.data()) != NC_NOERR || storage != NC_CHUNKED) return 0;
    return static_cast<std::int64_t>(sizes[which]);
  }
  // Compressed by something that the library here cannot undo.
  void refuse_unknown_filters(const Variable& v) const {
    std::size_t n = 0;
    unsigned ids[32] = {};
    if (nc_inq_var_filter_ids(nc_, v.id, &n, nullptr) != NC_NOERR || n == 0 || n > 32) return;
    if (nc_inq_var_filter_ids(nc_, v.id, &n, ids) != NC_NOERR) return;
    for (std::size_t i = 0; i < n; ++i)
      if (H5Zfilter_avail(static_cast<H5Z_filter_t>(ids[i])) <= 0) {
        static const std::map<unsigned, const char*> kNames = {
            {4, "szip"},           {307, "bzip2"}, {32000, "LZF"},       {32001, "blosc"}, {32004, "LZ4"},
            {32008, "bitshuffle"}, {32013, "ZFP"}, {32015, "Zstandard"}, {32026, "blosc2"}};
        const auto name = kNames.find(ids[i]);
        throw Error(ErrorCode::Unsupported,
                    fmt::format("is compressed by HDF5 filter {}{}, which is not read here", ids[i],
                                name == kNames.end() ? "" : fmt::format(" ({})", name->second)),
                    file_.name(), "have it written with deflate");
      }
  }
  bool compressed(const Variable& v) const {
    int shuffle = 0, deflate = 0, level = 0;
    return nc_inq_var_deflate(nc_, v.id, &shuffle, &deflate, &level) == NC_NOERR && deflate;
  }

 private:
  const NcFile& file_;
  int nc_;
  std::vector<Variable> variables_;
};

enum class Axis { None, X, Y };
Axis axis_of(const NetcdfReader& r, const Variable& v) {
  const std::string standard = r.text(v.id, "standard_name"), axis = r.text(v.id, "axis"),
                    units = lower_case(r.text(v.id, "units")), name = lower_case(v.name);
  if (standard == "longitude" || standard == "projection_x_coordinate" || axis == "X" ||
      units.starts_with("degrees_e") || units.starts_with("degree_e"))
    return Axis::X;
  if (standard == "latitude" || standard == "projection_y_coordinate" || axis == "Y" ||
      units.starts_with("degrees_n") || units.starts_with("degree_n"))
    return Axis::Y;
  for (const char* n : {"x", "lon", "longitude", "long", "easting", "east"})
    if (name == n) return Axis::X;
  for (const char* n : {"y", "lat", "latitude", "northing", "north"})
    if (name == n) return Axis::Y;
  return Axis::None;
}
bool in_degrees(const NetcdfReader& r, const Variable& v) {
  return lower_case(r.text(v.id, "units")).starts_with("degree") || r.text(v.id, "standard_name") == "longitude" ||
         r.text(v.id, "standard_name") == "latitude";
}

std::optional<SampleType> sample_type(nc_type t) {
  static const std::map<nc_type, SampleType> kTypes = {
      {NC_BYTE, SampleType::Int8},     {NC_UBYTE, SampleType::UInt8},   {NC_SHORT, SampleType::Int16},
      {NC_USHORT, SampleType::UInt16}, {NC_INT, SampleType::Int32},     {NC_UINT, SampleType::UInt32},
      {NC_INT64, SampleType::Int64},   {NC_UINT64, SampleType::UInt64}, {NC_FLOAT, SampleType::Float32},
      {NC_DOUBLE, SampleType::Float64}};
  const auto found = kTypes.find(t);
  return found == kTypes.end() ? std::nullopt : std::optional(found->second);
}

// A variable that could be a grid: its two last dimensions have coordinates, one east and one north.
struct Candidate {
  const Variable* variable = nullptr;
  const Variable* x = nullptr;
  const Variable* y = nullptr;
  bool x_first = false;
  std::size_t step = 0;  // the number from 1 among those along its other dimensions; 0: the first, as nobody asked
};
std::optional<Candidate> candidate(const NetcdfReader& r, const Variable& v) {
  if (v.dims.size() < 2 || v.dims.size() > 8 || !sample_type(v.type)) return std::nullopt;
  const Variable* a = r.coordinate(v.dims[v.dims.size() - 2]);
  const Variable* b = r.coordinate(v.dims[v.dims.size() - 1]);
  if (!a || !b) return std::nullopt;
  const Axis first = axis_of(r, *a), second = axis_of(r, *b);
  if (first == Axis::Y && second != Axis::Y) return Candidate{&v, b, a, false, 0};
  if (first == Axis::X && second != Axis::X) return Candidate{&v, a, b, true, 0};
  if (first == Axis::None && second == Axis::X) return Candidate{&v, b, a, false, 0};
  if (first == Axis::None && second == Axis::Y) return Candidate{&v, a, b, true, 0};
  return std::nullopt;
}

// How much a variable looks like the heights.
int likeness(const NetcdfReader& r, const Variable& v) {
  const std::string standard = r.text(v.id, "standard_name"), name = lower_case(v.name);
  for (const char* s : {"surface_altitude", "height_above_reference_ellipsoid", "height_above_geopotential_datum",
                        "height_above_mean_sea_level", "altitude", "height", "bedrock_altitude",
                        "sea_floor_depth_below_geoid", "sea_floor_depth_below_mean_sea_level",
                        "sea_floor_depth_below_reference_ellipsoid", "sea_floor_depth", "depth"})
    if (standard == s) return 3;
  for (const char* n : {"height", "elevation", "z", "altitude", "topo", "bathymetry", "depth", "dem"})
    if (name == n) return 2;
  return standard.empty() ? 1 : 0;
}

// How many grids a variable holds, along the dimensions before its last two.
std::size_t steps_in(const NetcdfReader& r, const Variable& v) {
  std::size_t n = 1;
  for (std::size_t d = 0; d + 2 < v.dims.size(); ++d) {
    const std::size_t length = r.length(v.dims[d]);
    n = length == 0 || n > (std::size_t{1} << 40) / length ? 0 : n * length;
  }
  return n;
}

// The number along each of these dimensions, from 0, of grid `step` (from 1; 0: the first), the last one running
// fastest.
std::vector<std::size_t> steps_of(const NetcdfReader& r, const Variable& v, std::size_t step) {
  std::vector<std::size_t> out(v.dims.size() - 2, 0);
  std::size_t rest = step > 0 ? step - 1 : 0;
  for (std::size_t d = out.size(); d-- > 0;) {
    const std::size_t n = std::max<std::size_t>(1, r.length(v.dims[d]));
    out[d] = rest % n;
    rest /= n;
  }
  return out;
}

// What the file itself calls possible, as values; anything else is a void.
struct ValidRange {
  double low = -std::numeric_limits<double>::infinity(), high = std::numeric_limits<double>::infinity();
  bool given() const { return std::isfinite(low) || std::isfinite(high); }
};
ValidRange valid_range(const NetcdfReader& r, const Variable& v, const SampleRule& rule) {
  ValidRange out;
  if (const auto both = r.numbers(v.id, "valid_range"); both.size() == 2) {
    out.low = both[0];
    out.high = both[1];
  } else {
    if (const auto low = r.number(v.id, "valid_min")) out.low = *low;
    if (const auto high = r.number(v.id, "valid_max")) out.high = *high;
  }
  // It is told in the samples of the file.
  if (rule.is_scaled()) {
    out.low = out.low * rule.scale + rule.offset;
    out.high = out.high * rule.scale + rule.offset;
    if (out.low > out.high) std::swap(out.low, out.high);
  }
  // Values are kept as 32-bit floats: what is printed as the limit itself lies inside.
  const double slack = 1e-6 * std::max(std::abs(out.low), std::abs(out.high));
  if (std::isfinite(out.low)) out.low -= std::isfinite(slack) ? slack : 0;
  if (std::isfinite(out.high)) out.high += std::isfinite(slack) ? slack : 0;
  return out;
}

class ValidSource final : public GridSource {
 public:
  ValidSource(Grid input, ValidRange range) : input_(std::move(input)), range_(range) {}
  const GridInfo& info() const override { return input_.info(); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const double z = static_cast<double>(out.row(r)[c]);
        if (z >= range_.low && z <= range_.high) continue;
        out.row(r)[c] = kVoid;
        if (out.origin) out.origin_row(r)[c] = 0;
      }
  }

 private:
  Grid input_;
  ValidRange range_;
};

// The names of coordinates that have a value for each cell, as curved lattices have them; empty when there are none.
std::string curved_coordinates(const NetcdfReader& r) {
  for (const Variable& v : r.variables()) {
    std::istringstream words(r.text(v.id, "coordinates"));
    std::string names;
    int axes = 0;
    for (std::string w; words >> w;)
      for (const Variable& c : r.variables())
        if (c.name == w && c.dims.size() == 2 && axis_of(r, c) != Axis::None) {
          names += fmt::format("{}'{}'", axes++ ? " and " : "", w);
        }
    if (axes == 2) return names;
  }
  return {};
}

Candidate choose(const NetcdfReader& r, const OpenOptions& options, const NcFile& file, FileFacts& facts) {
  std::vector<Candidate> all;
  for (const Variable& v : r.variables())
    if (auto c = candidate(r, v)) all.push_back(*c);
  if (const std::string curved = all.empty() ? curved_coordinates(r) : ""; !curved.empty())
    throw Error(ErrorCode::Unsupported,
                fmt::format("its lattice is curved: {} have a value for each cell, and cells here lie in straight rows",
                            curved),
                file.name(),
                "write longitude, latitude and height of its cells as a table, and make a grid of these points: "
                "katoptra grid TABLE --cell LENGTH");
  if (all.empty())
    throw Error(ErrorCode::Unsupported, "has no variable over an east and a north coordinate", file.name(),
                "a grid needs coordinate variables as the CF conventions describe them");
  std::string names;
  for (const Candidate& c : all) {
    if (all.size() > 1) facts.bands.push_back(c.variable->name);
    names += (names.empty() ? "" : ", ") + c.variable->name;
  }
  Candidate best = all[0];
  for (const Candidate& c : all)
    if (likeness(r, *c.variable) > likeness(r, *best.variable)) best = c;
  if (!options.band.empty()) {
    // A name, a name and a number ("height:3"), or the number of a step of the variable that would be taken anyway.
    const auto colon = options.band.rfind(':');
    const auto number = parse_number(colon == options.band.npos ? options.band : options.band.substr(colon + 1));
    const std::string wanted = !number ? options.band : colon == options.band.npos ? "" : options.band.substr(0, colon);
    bool found = wanted.empty();
    for (const Candidate& c : all)
      if (c.variable->name == options.band || (!wanted.empty() && c.variable->name == wanted)) {
        best = c;
        found = true;
        if (c.variable->name == options.band) break;
      }
    const std::size_t steps = steps_in(r, *best.variable);
    if (!found)
      throw Error(ErrorCode::BadArgument, fmt::format("has no grid '{}'", options.band), file.name(),
                  "it has " + names);
    if (number && best.variable->name != options.band) {
      if (!(*number >= 1 && *number <= static_cast<double>(steps) && *number == std::floor(*number)))
        throw Error(ErrorCode::BadArgument, fmt::format("has no number {:g} of '{}'", *number, best.variable->name),
                    file.name(), fmt::format("it has {}, numbered from 1", steps));
      best.step = static_cast<std::size_t>(*number);
    }
  }
  facts.band = best.variable->name + (best.step > 0 ? fmt::format(":{}", best.step) : "");
  return best;
}

struct EvenSteps {
  double first = 0, step = 1;
};
// The even steps of a coordinate. Coordinates kept as 32-bit floats wobble by their own last digit.
EvenSteps even_steps(const std::vector<double>& v, nc_type type, const std::string& name, const std::string& file) {
  if (v.size() < 2)
    throw Error(ErrorCode::Unsupported,
                fmt::format("its coordinate '{}' has one value, so the cell is not known", name), file,
                "give a grid of at least two by two cells");
  const double step = (v.back() - v.front()) / static_cast<double>(v.size() - 1);
  const double digits = type == NC_FLOAT ? 1.2e-7 * std::max(std::abs(v.front()), std::abs(v.back())) : 0;
  for (std::size_t i = 0; i < v.size(); ++i) {
    const double off = std::abs(v[i] - (v.front() + step * static_cast<double>(i)));
    if (!(off <= std::abs(step) * 1e-2 + digits))
      throw Error(ErrorCode::Unsupported, fmt::format("its coordinate '{}' is not evenly spaced (value {})", name, i),
                  file, "resample it to an even grid first");
  }
  if (!(step != 0) || !std::isfinite(step))
    throw Error(ErrorCode::BadFile, fmt::format("its coordinate '{}' stands still", name), file, "it is damaged");
  return {v.front(), step};
}

std::optional<LengthUnit> unit_from(const std::string& text) {
  const std::string t = lower_case(text);
  for (const char* m : {"m", "meter", "meters", "metre", "metres"})
    if (t == m) return LengthUnit::Metre;
  for (const char* f : {"ft", "foot", "feet", "international_foot"})
    if (t == f) return LengthUnit::Foot;
  for (const char* f : {"us_survey_foot", "us_survey_feet", "ftus"})
    if (t == f) return LengthUnit::UsFoot;
  return std::nullopt;
}

struct References {
  Crs crs;
  double scale = 1;  // what coordinates are multiplied with to be those of the CRS
  std::string name;
  HeightReference heights;
  std::vector<std::string> notes;
};
// Metres in one unit of a projected coordinate.
std::optional<double> metres_of_coordinate(const std::string& text) {
  const std::string t = lower_case(text);
  if (const auto unit = unit_from(t)) return metres_per(*unit);
  for (const auto& [name, metres] : {std::pair{"km", 1e3},
                                     {"kilometer", 1e3},
                                     {"kilometers", 1e3},
                                     {"kilometre", 1e3},
                                     {"kilometres", 1e3},
                                     {"cm", 1e-2},
                                     {"mm", 1e-3},
                                     {"dm", 0.1},
                                     {"hm", 100.0},
                                     {"mile", 1609.344}})
    if (t == name) return metres;
  // "100 km", "1000 m": a number and a unit.
  if (const auto blank = t.find(' '); blank != t.npos)
    if (const auto n = parse_number(t.substr(0, blank)))
      if (const auto unit = metres_of_coordinate(t.substr(blank + 1))) return *n * *unit;
  return std::nullopt;
}

// Coordinates in another unit than the CRS has (km and metres), or angles under a satellite's eye.
double scale_of(const NetcdfReader& r, const Candidate& c, const Crs& crs, double perspective) {
  const std::string unit = lower_case(r.text(c.x->id, "units"));
  if (crs.is_geographic()) return unit.starts_with("rad") ? 180 / M_PI : 1;
  if (perspective > 0 && unit.starts_with("microrad")) return perspective * 1e-6;
  if (perspective > 0 && (unit.starts_with("rad") || unit == "1" || unit.empty())) return perspective;
  return metres_of_coordinate(unit).value_or(crs.unit_factor()) / crs.unit_factor();
}

References references_of(const NetcdfReader& r, const Candidate& c) {
  References out;
  std::string mapping = r.text(c.variable->id, "grid_mapping");
  // The longer form names coordinates, too: "crs: x y".
  mapping = mapping.substr(0, mapping.find_first_of(": "));
  const Variable* m = mapping.empty() ? nullptr : r.find(mapping);
  CfMapping cf;
  if (m) {
    cf = cf_mapping(
        {[&](const char* key) { return r.text(m->id, key); }, [&](const char* key) { return r.numbers(m->id, key); }},
        metres_of_coordinate(r.text(c.x->id, "units")).value_or(1));
    for (const std::string& text :
         {r.text(m->id, "crs_wkt"), r.text(m->id, "spatial_ref"), r.text(m->id, "epsg_code"), cf.proj}) {
      if (text.empty() || out.crs) continue;
      out.name = text.substr(0, 60);
      try {
        out.crs = Crs::parse(text);
        out.heights = out.crs.heights();
        out.crs = out.crs.with_heights({});
      } catch (const Error& e) {
        out.notes.push_back("its CRS is not understood: " + e.problem());
      }
    }
    if (!out.crs && !cf.problem.empty()) out.notes.push_back(cf.problem);
  }
  if (out.crs) out.scale = scale_of(r, c, out.crs, cf.perspective);
  if (!out.crs && in_degrees(r, *c.x) && in_degrees(r, *c.y)) {
    out.crs = Crs::wgs84();
    out.notes.push_back("longitudes and latitudes without a datum: WGS 84 is taken");
  }
  if (m && !out.heights.known())
    for (const char* key : {"geoid_name", "geopotential_datum_name"})
      if (const std::string name = r.text(m->id, key); !name.empty() && !out.heights.known()) {
        try {
          out.heights = HeightReference::parse(name);
        } catch (const Error&) {
          out.heights = HeightReference::named(name);
        }
      }
  const std::string standard = r.text(c.variable->id, "standard_name");
  if (standard.find("reference_ellipsoid") != standard.npos) out.heights = HeightReference::ellipsoid();
  return out;
}

class Rows {
 public:
  // `steps`: the number along each dimension before the last two.
  Rows(std::shared_ptr<NcFile> file, const Candidate& c, std::int64_t cols, SampleType type,
       std::vector<std::size_t> steps)
      : file_(std::move(file)),
        variable_(c.variable->id),
        dims_(c.variable->dims.size()),
        steps_(std::move(steps)),
        x_first_(c.x_first),
        cols_(cols),
        size_(static_cast<std::size_t>(bytes_per_sample(type))) {}

  BlockCache::Bytes operator()(std::int64_t first, std::int64_t rows) const {
    std::vector<std::size_t> start(dims_, 0), count(dims_, 1);
    std::copy(steps_.begin(), steps_.end(), start.begin());
    const std::size_t y = x_first_ ? dims_ - 1 : dims_ - 2, x = x_first_ ? dims_ - 2 : dims_ - 1;
    start[y] = static_cast<std::size_t>(first);
    count[y] = static_cast<std::size_t>(rows);
    count[x] = static_cast<std::size_t>(cols_);
    BlockCache::Bytes bytes(count[x] * count[y] * size_, 0);
    {
      std::lock_guard lock(container_lock());
      file_->expect(nc_get_vara(file_->id(), variable_, start.data(), count.data(), bytes.data()),
                    fmt::format("rows {} to {} cannot be read", first, first + rows - 1));
    }
    file_->expect_unchanged();
    if (!x_first_) return bytes;
    BlockCache::Bytes upright(bytes.size(), 0);
    for (std::size_t c = 0; c < count[x]; ++c)
      for (std::size_t r = 0; r < count[y]; ++r)
        std::memcpy(upright.data() + (r * count[x] + c) * size_, bytes.data() + (c * count[y] + r) * size_, size_);
    return upright;
  }

 private:
  std::shared_ptr<NcFile> file_;
  int variable_;
  std::size_t dims_;
  std::vector<std::size_t> steps_;
  bool x_first_;
  std::int64_t cols_;
  std::size_t size_;
};

void describe(const NetcdfReader& r, const Candidate& c, const References& refs, GridFile& out, GridInfo& info) {
  const int v = c.variable->id;
  out.facts.crs_name = refs.name;
  out.facts.pixel_is_point = false;
  out.facts.description = r.text(NC_GLOBAL, "title");
  out.facts.ours = r.text(NC_GLOBAL, "source").starts_with("Katoptra ");
  for (const char* key : {"time_coverage_start", "date_created", "date"})
    if (out.facts.date.empty()) {
      const std::string d = r.text(NC_GLOBAL, key);
      if (d.size() >= 10 && d[4] == '-' && d[7] == '-') out.facts.date = d.substr(0, 10);
    }
  for (const std::string& n : refs.notes) info.notes.push_back(n);
  const std::string kind = r.text(v, "katoptra_quantity"), units = r.text(v, "units");
  if (!kind.empty()) info.quantity.kind = quantity_kind_from(kind);
  if (!is_length(info.quantity.kind) || (info.quantity.kind != QuantityKind::Height && !unit_from(units))) {
    info.quantity.other_unit = units;
    return;
  }
  if (info.quantity.kind == QuantityKind::Height) info.quantity.heights = refs.heights;
  if (const auto unit = unit_from(units)) {
    info.quantity.unit = *unit;
    info.quantity.unit_known = true;
  }
}

bool are_depths(const NetcdfReader& r, int v) {
  const std::string positive = lower_case(r.text(v, "positive")), standard = r.text(v, "standard_name");
  return positive == "down" || (positive.empty() && standard.find("depth") != standard.npos);
}

// The variable that says how sure another is (CF 3.4, ancillary variables), over the same dimensions.
const Variable* uncertainty_beside(const NetcdfReader& r, const Variable& v) {
  std::istringstream names(r.text(v.id, "ancillary_variables"));
  for (std::string name; names >> name;) {
    const Variable* beside = r.find(name);
    if (!beside || beside->dims != v.dims || !sample_type(beside->type)) continue;
    const std::string standard = r.text(beside->id, "standard_name");
    if (standard.ends_with(" standard_error") || name == "uncertainty") return beside;
  }
  return nullptr;
}

}  // namespace

bool is_netcdf_classic(std::span<const std::uint8_t> head) {
  return head.size() >= 4 && std::memcmp(head.data(), "CDF", 3) == 0 && (head[3] == 1 || head[3] == 2 || head[3] == 5);
}

GridFile open_netcdf(const Located& located, const OpenOptions& options) {
  auto file = std::make_shared<NcFile>(located);
  std::unique_lock lock(container_lock());
  const NetcdfReader r(*file);
  GridFile out;
  const Candidate c = choose(r, options, *file, out.facts);
  const Variable& v = *c.variable;
  r.refuse_unknown_filters(v);
  FileLattice lattice;
  const auto xs = r.values(*c.x), ys = r.values(*c.y);
  const EvenSteps x = even_steps(xs, c.x->type, c.x->name, file->name()),
                  y = even_steps(ys, c.y->type, c.y->name, file->name());
  const References refs = references_of(r, c);
  lattice = {.crs = refs.crs,
             .x = x.first * refs.scale,
             .y = y.first * refs.scale,
             .dx = x.step * refs.scale,
             .dy = y.step * refs.scale,
             .cols = static_cast<std::int64_t>(xs.size()),
             .rows = static_cast<std::int64_t>(ys.size()),
             .centre = true};

  SampleRule rule{.type = *sample_type(v.type), .hole = r.number(v.id, "_FillValue")};
  if (!rule.hole) rule.hole = r.number(v.id, "missing_value");
  if (!rule.hole) rule.hole = r.default_hole(v);
  rule.scale = r.number(v.id, "scale_factor").value_or(1);
  rule.offset = r.number(v.id, "add_offset").value_or(0);
  GridInfo info;
  info.frame = lattice.frame();
  describe(r, c, refs, out, info);
  describe_samples(rule, info);
  const std::vector<std::size_t> steps = steps_of(r, v, c.step);
  for (std::size_t d = 0; d + 2 < v.dims.size(); ++d)
    if (const std::size_t n = r.length(v.dims[d]); n > 1)
      info.notes.push_back(
          c.step == 0
              ? fmt::format("the first of {} along '{}' is taken; --band takes its number", n, r.dim_name(v.dims[d]))
              : fmt::format("number {} of {} along '{}' is taken", steps[d] + 1, n, r.dim_name(v.dims[d])));
  int format = 0;
  nc_inq_format(file->id(), &format);
  out.facts.format = format == NC_FORMAT_NETCDF4 || format == NC_FORMAT_NETCDF4_CLASSIC ? "NetCDF 4" : "NetCDF classic";
  out.facts.compression = r.compressed(v) ? "deflate" : "none";
  const std::int64_t chunk = r.chunk(v, c.x_first ? v.dims.size() - 1 : v.dims.size() - 2);
  out.facts.layout = fmt::format("{}{}{}", chunk > 0 ? "chunks" : "rows", lattice.south_up() ? ", south first" : "",
                                 c.x_first ? ", east before north" : "");
  const std::int64_t rows_per_block = rows_of_chunks(chunk, lattice.cols, rule.type);
  const bool depths = are_depths(r, v.id);
  if (lower_case(r.text(v.id, "positive")) == "up")
    info.quantity.heights = info.quantity.heights.as_heights();  // the variable's own word goes before the system's
  const auto missing = r.number(v.id, "missing_value");
  const ValidRange valid = valid_range(r, v, rule);
  const auto also_default = r.default_hole(v);
  Rows rows(file, c, lattice.cols, rule.type, steps);
  const Variable* beside = uncertainty_beside(r, v);
  OpenOptions plane{.band = beside ? beside->name : ""};
  if (beside && c.step > 0) plane.band += fmt::format(":{}", c.step);
  if (const auto reach = beside ? r.number(v.id, "katoptra_error_reach") : std::nullopt; reach && *reach >= 0)
    info.error_reach = Length::metres(*reach);
  lock.unlock();
  Grid grid = turned(grid_of_rows(std::move(info), rule, rows_per_block, std::move(rows)), lattice);
  for (const auto& hole : {missing, also_default})
    if (hole && hole != rule.hole) grid = with_void(grid, *hole * rule.scale + rule.offset);
  if (valid.given()) grid = Grid(std::make_shared<ValidSource>(grid, valid));
  if (beside) grid = with_uncertainty(grid, open_netcdf(located, plane).grid);
  if (depths) grid = depths_as_heights(grid);
  out.facts.depths_turned = depths;
  out.grid = grid;
  return out;
}

namespace {

// What the library will be asked for: the header, and blocks of rows.
void look_through(const Located& located, const OpenOptions& options) {
  auto file = std::make_shared<NcFile>(located);
  const NetcdfReader r(*file);
  for (const Variable& v : r.variables())
    for (const char* key : {"standard_name", "units", "axis", "positive", "grid_mapping", "crs_wkt", "_FillValue"}) {
      r.text(v.id, key);
      r.number(v.id, key);
    }
  FileFacts facts;
  const Candidate c = choose(r, options, *file, facts);
  const auto xs = r.values(*c.x), ys = r.values(*c.y);
  const auto& dims = c.variable->dims;
  const std::int64_t chunk = r.chunk(*c.variable, c.x_first ? dims.size() - 1 : dims.size() - 2);
  r.compressed(*c.variable);
  if (xs.empty() || ys.empty()) return;
  const SampleType type = *sample_type(c.variable->type);
  const auto cols = static_cast<std::int64_t>(xs.size()), rows = static_cast<std::int64_t>(ys.size());
  try_blocks(cols, rows, type, rows_of_chunks(chunk, cols, type),
             Rows(file, c, cols, type, steps_of(r, *c.variable, c.step)));
}

}  // namespace

void look_through_netcdf(const Located& file, const OpenOptions& options) { look_through(file, options); }

}  // namespace katoptra
