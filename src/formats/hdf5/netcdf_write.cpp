// NetCDF writing by the CF conventions (1.8): y runs south, values compressed in square chunks (NetCDF 4, .nc) or plain
// (classic with 64-bit offsets, .cdf).
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <netcdf.h>
#include <sstream>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/version.hpp"

#include "base/ranks.hpp"
#include "base/text.hpp"
#include "container.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

nc_type nc_type_of(SampleType t, bool classic, const std::string& file) {
  switch (t) {
    case SampleType::Int8:
      return NC_BYTE;
    case SampleType::Int16:
      return NC_SHORT;
    case SampleType::Int32:
      return NC_INT;
    case SampleType::Float32:
      return NC_FLOAT;
    case SampleType::Float64:
      return NC_DOUBLE;
    default:
      break;
  }
  if (classic)
    throw Error(ErrorCode::Unsupported, fmt::format("NetCDF classic has no {} values", name_of(t)), file,
                "write NetCDF 4 (.nc)");
  return t == SampleType::UInt8    ? NC_UBYTE
         : t == SampleType::UInt16 ? NC_USHORT
         : t == SampleType::UInt32 ? NC_UINT
         : t == SampleType::UInt64 ? NC_UINT64
                                   : NC_INT64;
}

class NetcdfWriter final : public RowWriter {
 public:
  NetcdfWriter(const fs::path& path, const GridInfo& info, const StoredAs& as, const WriteOptions& options,
               bool uncertain)
      : path_(path),
        info_(info),
        as_(as),
        options_(options),
        uncertain_(uncertain),
        classic_(lower_extension(path) == ".cdf") {
    refuse_to_help(path.string());
    std::error_code ec;
    if (!options.overwrite && fs::exists(path, ec))
      throw Error(ErrorCode::Io, "exists already", path.string(), "choose another name or say --overwrite");
    part_ = path.parent_path() / fmt::format(".{}.part-{}", path.filename().string(), ::getpid());
    std::lock_guard lock(container_lock());
    expect(nc_create(part_.c_str(), NC_CLOBBER | (classic_ ? NC_64BIT_OFFSET : NC_NETCDF4), &nc_));
    try {
      define();
    } catch (...) {
      nc_close(nc_);
      ::unlink(part_.c_str());
      throw;
    }
  }
  ~NetcdfWriter() override {
    std::lock_guard lock(container_lock());
    if (nc_ >= 0) nc_close(nc_);
    if (!done_) ::unlink(part_.c_str());
  }
  NetcdfWriter(const NetcdfWriter&) = delete;
  NetcdfWriter& operator=(const NetcdfWriter&) = delete;

  bool writes_uncertainty() const override { return uncertain_; }
  // The values, and behind them their uncertainties as floats.
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    const auto n = static_cast<std::size_t>(rows.window().cells());
    const std::size_t bytes = n * static_cast<std::size_t>(bytes_per_sample(as_.type));
    std::vector<std::uint8_t> out(bytes + (uncertain_ ? n * sizeof(float) : 0));
    floats_to_samples(rows.row(0), n, as_, out.data(), path_.string());
    if (uncertain_) std::memcpy(out.data() + bytes, rows.uncertainty_row(0), n * sizeof(float));
    return out;
  }
  void place(const Window& band, std::span<const std::uint8_t> bytes) override {
    const std::size_t start[2] = {static_cast<std::size_t>(band.row), 0},
                      count[2] = {static_cast<std::size_t>(band.rows), static_cast<std::size_t>(band.cols)};
    std::lock_guard lock(container_lock());
    expect(nc_put_vara(nc_, values_, start, count, bytes.data()));
    if (uncertain_)
      expect(nc_put_vara(nc_, uncertainties_, start, count,
                         bytes.data() + count[0] * count[1] * static_cast<std::size_t>(bytes_per_sample(as_.type))));
  }
  void finish(WriteReport& report) override {
    {
      std::lock_guard lock(container_lock());
      expect(nc_close(std::exchange(nc_, -1)));
    }
    std::error_code ec;
    fs::rename(part_, path_, ec);
    if (ec) throw Error(ErrorCode::Io, "cannot be given its name: " + ec.message(), path_.string());
    done_ = true;
    report.bytes = fs::file_size(path_, ec);
    report.format = classic_ ? "NetCDF classic" : "NetCDF 4";
    report.compression = classic_ ? "none" : "deflate";
  }

 private:
  void expect(int status) const {
    if (status != NC_NOERR)
      throw Error(ErrorCode::Io, fmt::format("cannot be written: {}", nc_strerror(status)), path_.string(),
                  "check that the folder exists and may be written, and that there is room");
  }
  void text(int variable, const char* key, const std::string& value) const {
    expect(nc_put_att_text(nc_, variable, key, value.size(), value.c_str()));
  }
  void number(int variable, const char* key, double value) const {
    expect(nc_put_att_double(nc_, variable, key, NC_DOUBLE, 1, &value));
  }
  int coordinate(int dim, bool x) const {
    const bool degrees = info_.frame.crs().is_geographic();
    int v = -1;
    expect(nc_def_var(nc_, degrees ? (x ? "lon" : "lat") : (x ? "x" : "y"), NC_DOUBLE, 1, &dim, &v));
    text(v, "standard_name",
         degrees ? (x ? "longitude" : "latitude") : (x ? "projection_x_coordinate" : "projection_y_coordinate"));
    text(v, "axis", x ? "X" : "Y");
    text(v, "units", degrees ? (x ? "degrees_east" : "degrees_north") : unit_of_plane());
    return v;
  }
  // As UDUNITS has it.
  std::string unit_of_plane() const {
    const Crs& crs = info_.frame.crs();
    const std::string& unit = crs.unit_name();
    if (unit == "ftUS") return "US_survey_foot";
    if (unit == "ft") return "foot";
    if (!crs || crs.unit_factor() == 1) return "m";
    return crs.unit_factor() == 1000 ? "km" : fmt::format("{} m", crs.unit_factor());
  }
  void define() {
    const Frame& f = info_.frame;
    int dims[2] = {-1, -1};
    const bool degrees = f.crs().is_geographic();
    expect(nc_def_dim(nc_, degrees ? "lat" : "y", static_cast<std::size_t>(f.rows()), &dims[0]));
    expect(nc_def_dim(nc_, degrees ? "lon" : "x", static_cast<std::size_t>(f.cols()), &dims[1]));
    const int y = coordinate(dims[0], false), x = coordinate(dims[1], true);
    define_values(dims);
    if (f.crs()) define_mapping();
    text(NC_GLOBAL, "Conventions", "CF-1.8");
    text(NC_GLOBAL, "source", fmt::format("Katoptra {}", KATOPTRA_VERSION));
    if (!options_.date.empty()) text(NC_GLOBAL, "time_coverage_start", options_.date);
    if (!options_.survey.empty()) text(NC_GLOBAL, "title", options_.survey);
    expect(nc_enddef(nc_));
    std::vector<double> xs(static_cast<std::size_t>(f.cols())), ys(static_cast<std::size_t>(f.rows()));
    for (std::size_t c = 0; c < xs.size(); ++c) xs[c] = f.centre(static_cast<double>(c), 0).x;
    for (std::size_t r = 0; r < ys.size(); ++r) ys[r] = f.centre(0, static_cast<double>(r)).y;
    expect(nc_put_var_double(nc_, x, xs.data()));
    expect(nc_put_var_double(nc_, y, ys.data()));
  }
  void define_values(const int* dims) {
    const Quantity& q = info_.quantity;
    const bool height = q.kind == QuantityKind::Height;
    const nc_type type = nc_type_of(as_.type, classic_, path_.string());
    expect(nc_def_var(nc_, variable_name(q.kind).c_str(), type, 2, dims, &values_));
    pack(values_, bytes_per_sample(as_.type));
    put_fill(type);
    if (height)
      text(values_, "standard_name",
           q.heights.is_ellipsoid() ? "height_above_reference_ellipsoid"
           : q.heights.known()      ? "height_above_geopotential_datum"
                                    : "surface_altitude");
    text(values_, "long_name",
         fmt::format("{}{}", name_of(q.kind), height && q.heights.known() ? ", " + q.heights.name() : ""));
    text(values_, "katoptra_quantity", name_of(q.kind));
    const std::string unit = unit_name(q);
    if (!height || q.unit_known) text(values_, "units", told_unit(unit));
    if (const auto classes = classes_of(q.kind); !classes.empty()) put_classes(type, classes);
    if (info_.frame.crs()) text(values_, "grid_mapping", "crs");
    if (uncertain_) define_uncertainty(dims, unit);
  }
  // CF 3.4: a variable beside another that says how sure it is.
  void define_uncertainty(const int* dims, const std::string& unit) {
    expect(nc_def_var(nc_, "uncertainty", NC_FLOAT, 2, dims, &uncertainties_));
    pack(uncertainties_, sizeof(float));
    const float hole = kVoid;
    expect(nc_put_att_float(nc_, uncertainties_, "_FillValue", NC_FLOAT, 1, &hole));
    text(values_, "ancillary_variables", "uncertainty");
    if (info_.error_reach) number(values_, "katoptra_error_reach", info_.error_reach->metres());
    std::size_t n = 0;
    if (nc_inq_attlen(nc_, values_, "standard_name", &n) == NC_NOERR) {
      std::string standard(n, ' ');
      expect(nc_get_att_text(nc_, values_, "standard_name", standard.data()));
      text(uncertainties_, "standard_name", standard + " standard_error");
    }
    text(uncertainties_, "long_name", "one standard uncertainty");
    text(uncertainties_, "katoptra_quantity", name_of(QuantityKind::Uncertainty));
    if (!unit.empty() && (info_.quantity.kind != QuantityKind::Height || info_.quantity.unit_known))
      text(uncertainties_, "units", told_unit(unit));
    if (info_.frame.crs()) text(uncertainties_, "grid_mapping", "crs");
  }
  // In chunks that are packed, in the newer form.
  void pack(int variable, int bytes_per) const {
    if (classic_) return;
    const Frame& f = info_.frame;
    const std::size_t chunks[2] = {static_cast<std::size_t>(std::min<std::int64_t>(256, f.rows())),
                                   static_cast<std::size_t>(std::min<std::int64_t>(256, f.cols()))};
    expect(nc_def_var_chunking(nc_, variable, NC_CHUNKED, chunks));
    if (options_.codec != Codec::None)
      expect(nc_def_var_deflate(nc_, variable, 1, 1, std::clamp(options_.level, 1, 9)));
    // Bands arrive whole: chunks of a row of chunks wait in the cache until they are full.
    const std::size_t across = (static_cast<std::size_t>(f.cols()) + chunks[1] - 1) / chunks[1];
    const std::size_t bytes = 2 * across * chunks[0] * chunks[1] * static_cast<std::size_t>(bytes_per);
    expect(nc_set_var_chunk_cache(nc_, variable, std::max<std::size_t>(bytes, 1 << 20), 10007, 1.0F));
  }
  // As UDUNITS has it.
  static std::string told_unit(const std::string& unit) {
    return unit == "ftUS" ? "US_survey_foot" : unit == "ft" ? "foot" : unit.empty() ? "1" : unit;
  }
  static std::string variable_name(QuantityKind kind) { return one_word(name_of(kind)); }
  static std::string one_word(std::string text) {
    std::erase(text, ',');
    std::replace(text.begin(), text.end(), ' ', '_');
    return text;
  }
  // CF 3.5: flags.
  void put_classes(nc_type type, std::span<const char* const> names) const {
    std::vector<float> codes;
    std::string meanings;
    for (const char* name : names) {
      codes.push_back(static_cast<float>(codes.size() + 1));
      if (!meanings.empty()) meanings += ' ';
      meanings += one_word(name);
    }
    std::vector<std::uint8_t> bytes(8 * codes.size());
    floats_to_samples(codes.data(), codes.size(), as_, bytes.data(), path_.string());
    expect(nc_put_att(nc_, values_, "flag_values", type, codes.size(), bytes.data()));
    text(values_, "flag_meanings", meanings);
  }
  void put_fill(nc_type type) const {
    std::vector<std::uint8_t> value(8);
    const float hole = std::numeric_limits<float>::quiet_NaN();
    floats_to_samples(&hole, 1, as_, value.data(), path_.string());
    expect(nc_put_att(nc_, values_, "_FillValue", type, 1, value.data()));
  }
  // The parameters of the common projections under their CF names; others are told by WKT alone.
  void projection(int v, const Crs& crs) const {
    static const std::map<std::string, std::string> kMethods = {
        {"tmerc", "transverse_mercator"},   {"utm", "transverse_mercator"},           {"merc", "mercator"},
        {"lcc", "lambert_conformal_conic"}, {"laea", "lambert_azimuthal_equal_area"}, {"stere", "polar_stereographic"}};
    std::map<std::string, std::string> p;
    std::istringstream words(crs.proj_string());
    for (std::string w; words >> w;)
      if (const auto eq = w.find('='); w.starts_with("+") && eq != w.npos) p[w.substr(1, eq - 1)] = w.substr(eq + 1);
    const auto method = kMethods.find(p["proj"]);
    if (method == kMethods.end()) return;
    auto value = [&](const char* key, double otherwise) { return parse_number(p[key]).value_or(otherwise); };
    const bool south = crs.proj_string().find("+south") != std::string::npos;
    if (p["proj"] == "utm") {
      p["lon_0"] = fmt::format("{}", value("zone", 31) * 6 - 183);
      p["k"] = "0.9996";
      p["x_0"] = "500000";
      p["y_0"] = south ? "10000000" : "0";
    }
    text(v, "grid_mapping_name", method->second);
    const bool transverse = method->second == "transverse_mercator";
    number(v,
           transverse                                ? "longitude_of_central_meridian"
           : method->second == "polar_stereographic" ? "straight_vertical_longitude_from_pole"
           : p["proj"] == "lcc"                      ? "longitude_of_central_meridian"
                                                     : "longitude_of_projection_origin",
           value("lon_0", 0));
    if (p["proj"] != "merc") number(v, "latitude_of_projection_origin", value("lat_0", 0));
    if (transverse || p.count("k") || p.count("k_0"))
      number(v, transverse ? "scale_factor_at_central_meridian" : "scale_factor_at_projection_origin",
             p.count("k_0") ? value("k_0", 1) : value("k", 1));
    if (p.count("lat_1") && p.count("lat_2")) {
      const double parallels[2] = {value("lat_1", 0), value("lat_2", 0)};
      expect(nc_put_att_double(nc_, v, "standard_parallel", NC_DOUBLE, 2, parallels));
    } else if (p.count("lat_ts") || p.count("lat_1")) {
      number(v, "standard_parallel", p.count("lat_ts") ? value("lat_ts", 0) : value("lat_1", 0));
    }
    number(v, "false_easting", value("x_0", 0));
    number(v, "false_northing", value("y_0", 0));
  }
  void define_mapping() const {
    const Crs crs = info_.frame.crs().with_heights(info_.quantity.heights);
    int v = -1;
    expect(nc_def_var(nc_, "crs", NC_INT, 0, nullptr, &v));
    if (crs.is_geographic()) text(v, "grid_mapping_name", "latitude_longitude");
    const double e2 = crs.eccentricity2(), flattening = 1 - std::sqrt(1 - e2);
    number(v, "semi_major_axis", crs.semi_major());
    number(v, "inverse_flattening", flattening > 0 ? 1 / flattening : 0);
    if (!crs.is_geographic()) projection(v, crs);
    const HeightReference& h = info_.quantity.heights;
    if (h.known() && !h.is_ellipsoid()) text(v, "geopotential_datum_name", h.name());
    text(v, "crs_wkt", crs.wkt());
  }

  fs::path path_, part_;
  GridInfo info_;
  StoredAs as_;
  WriteOptions options_;
  bool uncertain_, classic_, done_ = false;
  int nc_ = -1, values_ = -1, uncertainties_ = -1;
};

}  // namespace

WriteReport write_netcdf(const Grid& grid, const fs::path& path, const WriteOptions& options) {
  const StoredAs as = stored_as(grid.info(), options.void_value, path.string());
  return write_rows(grid, path, options, as,
                    std::make_unique<NetcdfWriter>(path, grid.info(), as, options,
                                                   options.uncertainty && grid.carries_uncertainty()));
}

}  // namespace katoptra
