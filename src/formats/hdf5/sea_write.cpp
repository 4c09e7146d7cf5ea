// BAG and S-102 written: planes of the sea floor with their uncertainty, from the south-west. Both hold metres; a cell
// whose uncertainty is not known has the void of the format there.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/version.hpp"

#include "base/ranks.hpp"
#include "base/text.hpp"
#include "formats/writers.hpp"
#include "hdf5_file.hpp"
#include "s102.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr hsize_t kChunk = 128;

// Metres in an upright frame; Refused, with the way out.
void require_sea_floor(const Grid& grid, const char* format, const std::string& file) {
  const Quantity& q = grid.quantity();
  if (q.kind != QuantityKind::Height || q.unit != LengthUnit::Metre)
    throw Error(
        ErrorCode::Refused,
        fmt::format("{} holds heights in metres, and these are {} in {}", format, name_of(q.kind), unit_name(q)), file,
        "convert with --unit m, or choose another format");
  if (!grid.frame().crs())
    throw Error(ErrorCode::Refused, fmt::format("{} must say where it lies, and there is no CRS", format), file,
                "tell it with --crs");
}

// An HDF5 file under a name of its own until it is whole.
class Hdf5Writer : public RowWriter {
 public:
  Hdf5Writer(const fs::path& path, const GridInfo& info, const WriteOptions& options, bool uncertain)
      : path_(path), info_(info), options_(options), uncertain_(uncertain) {
    refuse_to_help(path.string());
    std::error_code ec;
    if (!options.overwrite && fs::exists(path, ec))
      throw Error(ErrorCode::Io, "exists already", path.string(), "choose another name or say --overwrite");
    part_ = path.parent_path() / fmt::format(".{}.part-{}", path.filename().string(), ::getpid());
    std::lock_guard lock(container_lock());
    file_ = Id(H5Fcreate(part_.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
    if (!file_.ok()) fail();
  }
  ~Hdf5Writer() override {
    std::lock_guard lock(container_lock());
    planes_.clear();
    file_ = Id();
    if (!done_) ::unlink(part_.c_str());
  }
  Hdf5Writer(const Hdf5Writer&) = delete;
  Hdf5Writer& operator=(const Hdf5Writer&) = delete;

  bool writes_uncertainty() const override { return uncertain_; }

  // Values and uncertainties of each cell one after the other, rows from the south.
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    const Window& w = rows.window();
    std::vector<float> out(static_cast<std::size_t>(w.cells()) * 2);
    float* to = out.data();
    for (std::int64_t k = 0; k < w.rows; ++k) {
      const std::int64_t r = w.rows - 1 - k;
      const float* u = rows.uncertainty_row(r);
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float z = rows.at(c, r);
        if (z == static_cast<float>(kSeaVoid))
          throw VoidCollision(ErrorCode::BadArgument, "a height of 1000000 m stands for no value in this format",
                              path_.string(), "choose another format");
        *to++ = std::isnan(z) ? static_cast<float>(kSeaVoid) : sign() * z;
        *to++ = !u || std::isnan(u[c]) ? static_cast<float>(kSeaVoid) : u[c];
      }
    }
    const auto* bytes = reinterpret_cast<const std::uint8_t*>(out.data());
    return {bytes, bytes + out.size() * sizeof(float)};
  }

  void finish(WriteReport& report) override {
    {
      std::lock_guard lock(container_lock());
      complete();
      planes_.clear();
      if (H5Fflush(file_.get(), H5F_SCOPE_GLOBAL) < 0) fail();
      file_ = Id();
    }
    std::error_code ec;
    fs::rename(part_, path_, ec);
    if (ec) throw Error(ErrorCode::Io, "cannot be given its name: " + ec.message(), path_.string());
    done_ = true;
    report.bytes = fs::file_size(path_, ec);
    report.compression = "deflate";
  }

 protected:
  virtual float sign() const { return 1; }
  // What is known when all rows are there. With the lock held.
  virtual void complete() = 0;

  [[noreturn]] void fail() const {
    throw Error(ErrorCode::Io, "cannot be written", path_.string(),
                "check that the folder exists and may be written, and that there is room");
  }
  void expect(herr_t status) const {
    if (status < 0) fail();
  }
  Id group(const std::string& path) const {
    Id g(H5Gcreate2(file_.get(), path.c_str(), H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
    if (!g.ok()) fail();
    return g;
  }
  void put(const Id& at, const char* name, hid_t type, const void* value) const {
    const Id space(H5Screate(H5S_SCALAR), H5Sclose),
        a(H5Acreate2(at.get(), name, type, space.get(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    if (!a.ok() || H5Awrite(a.get(), type, value) < 0) fail();
  }
  void put_text(const Id& at, const char* name, const std::string& value) const {
    const Id type(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(type.get(), value.size() + 1);
    put(at, name, type.get(), value.c_str());
  }
  void put_real(const Id& at, const char* name, double v) const { put(at, name, H5T_NATIVE_DOUBLE, &v); }
  void put_float(const Id& at, const char* name, double v) const {
    const auto f = static_cast<float>(v);
    put(at, name, H5T_NATIVE_FLOAT, &f);
  }
  void put_whole(const Id& at, const char* name, std::int64_t v) const {
    const auto n = static_cast<std::int32_t>(v);
    put(at, name, H5T_NATIVE_INT32, &n);
  }
  // A plane of the frame's size, in packed chunks.
  Id plane(const std::string& path, hid_t type, const void* fill) const {
    const Frame& f = info_.frame;
    const hsize_t dims[2] = {static_cast<hsize_t>(f.rows()), static_cast<hsize_t>(f.cols())},
                  chunks[2] = {std::min(kChunk, dims[0]), std::min(kChunk, dims[1])};
    const Id space(H5Screate_simple(2, dims, nullptr), H5Sclose), how(H5Pcreate(H5P_DATASET_CREATE), H5Pclose),
        access(H5Pcreate(H5P_DATASET_ACCESS), H5Pclose);
    expect(H5Pset_chunk(how.get(), 2, chunks));
    expect(H5Pset_shuffle(how.get()));
    expect(H5Pset_deflate(how.get(), static_cast<unsigned>(std::clamp(options_.level, 1, 9))));
    expect(H5Pset_fill_value(how.get(), type, fill));
    // A row of chunks waits until it is full.
    const std::size_t bytes = 2 * (dims[1] + chunks[1]) * chunks[0] * H5Tget_size(type);
    expect(H5Pset_chunk_cache(access.get(), 10007, std::max<std::size_t>(bytes, 1 << 20), 1.0));
    Id d(H5Dcreate2(file_.get(), path.c_str(), type, space.get(), H5P_DEFAULT, how.get(), access.get()), H5Dclose);
    if (!d.ok()) fail();
    return d;
  }
  // Rows of a band into a plane; `type`: of what lies in memory.
  void put_rows(const Id& to, hid_t type, const Window& band, const void* values) const {
    const Frame& f = info_.frame;
    const hsize_t start[2] = {static_cast<hsize_t>(f.rows() - band.row - band.rows), 0},
                  count[2] = {static_cast<hsize_t>(band.rows), static_cast<hsize_t>(band.cols)};
    const Id file_space(H5Dget_space(to.get()), H5Sclose), memory(H5Screate_simple(2, count, nullptr), H5Sclose);
    expect(H5Sselect_hyperslab(file_space.get(), H5S_SELECT_SET, start, nullptr, count, nullptr));
    expect(H5Dwrite(to.get(), type, memory.get(), file_space.get(), H5P_DEFAULT, values));
  }

  struct Range {
    float lowest = std::numeric_limits<float>::infinity(), highest = -lowest;
    void add(float v) {
      if (v == static_cast<float>(kSeaVoid)) return;
      lowest = std::min(lowest, v);
      highest = std::max(highest, v);
    }
    float low() const { return lowest <= highest ? lowest : static_cast<float>(kSeaVoid); }
    float high() const { return lowest <= highest ? highest : static_cast<float>(kSeaVoid); }
  };
  void measure(const float* pairs, std::size_t cells) {
    for (std::size_t i = 0; i < cells; ++i) {
      values_.add(pairs[2 * i]);
      doubts_.add(pairs[2 * i + 1]);
    }
  }

  fs::path path_, part_;
  GridInfo info_;
  WriteOptions options_;
  bool uncertain_, done_ = false;
  Id file_;
  std::vector<Id> planes_;
  Range values_, doubts_;
};

// ------------------------------------------------------------------------------------------------------------- BAG

std::string vertical_wkt(const Crs& crs, const HeightReference& heights) {
  if (!heights.known() || heights.is_ellipsoid()) return heights.known() ? "ellipsoid" : "unknown";
  const std::string all = crs.with_heights(heights).file_wkt();
  const auto at = all.find("VERT_CS[");
  if (at == all.npos) return heights.text();
  int depth = 0;
  for (std::size_t i = at; i < all.size(); ++i) {
    if (all[i] == '[') ++depth;
    if (all[i] == ']' && --depth == 0) return all.substr(at, i + 1 - at);
  }
  return heights.text();
}

// ISO 19139, as far as readers of BAG ask for it.
std::string metadata_xml(const GridInfo& info, const WriteOptions& o) {
  const Frame& f = info.frame;
  const auto text = [](const std::string& t) {
    return "<gco:CharacterString>" + xml_text(t) + "</gco:CharacterString>";
  };
  const auto axis = [](const char* name, std::int64_t size, double cell) {
    return fmt::format(
        "<gmd:axisDimensionProperties><gmd:MD_Dimension><gmd:dimensionName><gmd:MD_DimensionNameTypeCode "
        "codeListValue=\"{0}\">{0}</gmd:MD_DimensionNameTypeCode></"
        "gmd:dimensionName><gmd:dimensionSize><gco:Integer>{1}"
        "</gco:Integer></gmd:dimensionSize><gmd:resolution><gco:Measure "
        "uom=\"m\">{2:.17g}</gco:Measure></gmd:resolution>"
        "</gmd:MD_Dimension></gmd:axisDimensionProperties>",
        name, size, cell);
  };
  const auto system = [&](const std::string& code) {
    return "<gmd:referenceSystemInfo><gmd:MD_ReferenceSystem><gmd:referenceSystemIdentifier><gmd:RS_Identifier><gmd:"
           "code>" +
           text(code) + "</gmd:code><gmd:codeSpace>" + text("WKT") +
           "</gmd:codeSpace></gmd:RS_Identifier></gmd:referenceSystemIdentifier></gmd:MD_ReferenceSystem>"
           "</gmd:referenceSystemInfo>";
  };
  const Point first = f.centre(0, static_cast<double>(f.rows() - 1)),
              last = f.centre(static_cast<double>(f.cols() - 1), 0);
  const std::string date =
      o.date.empty() ? "" : "<gmd:dateStamp><gco:Date>" + xml_text(o.date) + "</gco:Date></gmd:dateStamp>";
  return "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
         "<gmi:MI_Metadata xmlns:gmi=\"http://www.isotc211.org/2005/gmi\" "
         "xmlns:gmd=\"http://www.isotc211.org/2005/gmd\" "
         "xmlns:gco=\"http://www.isotc211.org/2005/gco\" xmlns:gml=\"http://www.opengis.net/gml/3.2\" "
         "xmlns:bag=\"http://www.opennavsurf.org/schema/bag\">" +
         date +
         "<gmd:spatialRepresentationInfo><gmd:MD_Georectified><gmd:numberOfDimensions><gco:Integer>2</gco:Integer>"
         "</gmd:numberOfDimensions>" +
         axis("row", f.rows(), f.cell().y) + axis("column", f.cols(), f.cell().x) +
         "<gmd:cellGeometry><gmd:MD_CellGeometryCode codeListValue=\"point\">point</gmd:MD_CellGeometryCode>"
         "</gmd:cellGeometry><gmd:cornerPoints><gml:Point gml:id=\"id1\"><gml:coordinates decimal=\".\" cs=\",\" ts=\" "
         "\">" +
         fmt::format("{:.17g},{:.17g} {:.17g},{:.17g}", first.x, first.y, last.x, last.y) +
         "</gml:coordinates></gml:Point></gmd:cornerPoints><gmd:pointInPixel><gmd:MD_PixelOrientationCode>center"
         "</gmd:MD_PixelOrientationCode></gmd:pointInPixel></gmd:MD_Georectified></gmd:spatialRepresentationInfo>" +
         system(f.crs().with_heights({}).file_wkt()) + system(vertical_wkt(f.crs(), info.quantity.heights)) +
         "<gmd:identificationInfo><bag:BAG_DataIdentification><gmd:citation><gmd:CI_Citation><gmd:title>" +
         text(o.survey.empty() ? fmt::format("Written by Katoptra {}", KATOPTRA_VERSION) : o.survey) +
         "</gmd:title></gmd:CI_Citation></gmd:citation><bag:verticalUncertaintyType><bag:BAG_VertUncertCode "
         "codeListValue=\"productUncert\">productUncert</bag:BAG_VertUncertCode></bag:verticalUncertaintyType>"
         "</bag:BAG_DataIdentification></gmd:identificationInfo></gmi:MI_Metadata>\n";
}

class BagWriter final : public Hdf5Writer {
 public:
  BagWriter(const fs::path& path, const GridInfo& info, const WriteOptions& options, bool uncertain)
      : Hdf5Writer(path, info, options, uncertain) {
    std::lock_guard lock(container_lock());
    root_ = group("BAG_root");
    put_text(root_, "Bag Version", "1.6.2");
    const auto hole = static_cast<float>(kSeaVoid);
    for (const char* name : {"BAG_root/elevation", "BAG_root/uncertainty"})
      planes_.push_back(plane(name, H5T_NATIVE_FLOAT, &hole));
    put_metadata(metadata_xml(info, options));
    put_empty_tracking_list();
  }
  ~BagWriter() override {
    std::lock_guard lock(container_lock());
    root_ = Id();
  }
  void place(const Window& band, std::span<const std::uint8_t> bytes) override {
    const auto n = static_cast<std::size_t>(band.cells());
    const auto* pairs = reinterpret_cast<const float*>(bytes.data());
    measure(pairs, n);
    std::vector<float> one(n);
    std::lock_guard lock(container_lock());
    for (std::size_t p = 0; p < 2; ++p) {
      for (std::size_t i = 0; i < n; ++i) one[i] = pairs[2 * i + p];
      put_rows(planes_[p], H5T_NATIVE_FLOAT, band, one.data());
    }
  }
  void finish(WriteReport& report) override {
    Hdf5Writer::finish(report);
    report.format = "BAG";
  }

 private:
  void complete() override {
    put_float(planes_[0], "Minimum Elevation Value", static_cast<double>(values_.low()));
    put_float(planes_[0], "Maximum Elevation Value", static_cast<double>(values_.high()));
    put_float(planes_[1], "Minimum Uncertainty Value", static_cast<double>(doubts_.low()));
    put_float(planes_[1], "Maximum Uncertainty Value", static_cast<double>(doubts_.high()));
    root_ = Id();
  }
  // Characters one by one.
  void put_metadata(const std::string& xml) const {
    const hsize_t n = xml.size(), most = H5S_UNLIMITED, chunk = 1024;
    const Id space(H5Screate_simple(1, &n, &most), H5Sclose), how(H5Pcreate(H5P_DATASET_CREATE), H5Pclose),
        type(H5Tcopy(H5T_C_S1), H5Tclose);
    expect(H5Pset_chunk(how.get(), 1, &chunk));
    const Id d(
        H5Dcreate2(file_.get(), "BAG_root/metadata", type.get(), space.get(), H5P_DEFAULT, how.get(), H5P_DEFAULT),
        H5Dclose);
    if (!d.ok() || H5Dwrite(d.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, xml.data()) < 0) fail();
  }
  // Nobody has changed a node by hand.
  void put_empty_tracking_list() const {
    struct Item {
      std::uint32_t row, col;
      float depth, uncertainty;
      std::uint8_t code;
      std::uint16_t series;
    };
    const Id type(H5Tcreate(H5T_COMPOUND, sizeof(Item)), H5Tclose);
    H5Tinsert(type.get(), "row", HOFFSET(Item, row), H5T_NATIVE_UINT32);
    H5Tinsert(type.get(), "col", HOFFSET(Item, col), H5T_NATIVE_UINT32);
    H5Tinsert(type.get(), "depth", HOFFSET(Item, depth), H5T_NATIVE_FLOAT);
    H5Tinsert(type.get(), "uncertainty", HOFFSET(Item, uncertainty), H5T_NATIVE_FLOAT);
    H5Tinsert(type.get(), "track_code", HOFFSET(Item, code), H5T_NATIVE_UINT8);
    H5Tinsert(type.get(), "list_series", HOFFSET(Item, series), H5T_NATIVE_UINT16);
    const hsize_t none = 0, most = H5S_UNLIMITED, chunk = 10;
    const Id space(H5Screate_simple(1, &none, &most), H5Sclose), how(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    expect(H5Pset_chunk(how.get(), 1, &chunk));
    const Id d(
        H5Dcreate2(file_.get(), "BAG_root/tracking_list", type.get(), space.get(), H5P_DEFAULT, how.get(), H5P_DEFAULT),
        H5Dclose);
    if (!d.ok()) fail();
    const std::uint32_t length = 0;
    put(d, "Tracking List Length", H5T_NATIVE_UINT32, &length);
  }

  Id root_;
};

// ----------------------------------------------------------------------------------------------------------- S-102

struct Sounding {
  float depth, uncertainty;
};

class S102Writer final : public Hdf5Writer {
 public:
  S102Writer(const fs::path& path, const GridInfo& info, const WriteOptions& options, bool uncertain)
      : Hdf5Writer(path, info, options, uncertain) {
    std::lock_guard lock(container_lock());
    record_ = Id(H5Tcreate(H5T_COMPOUND, sizeof(Sounding)), H5Tclose);
    H5Tinsert(record_.get(), "depth", HOFFSET(Sounding, depth), H5T_NATIVE_FLOAT);
    H5Tinsert(record_.get(), "uncertainty", HOFFSET(Sounding, uncertainty), H5T_NATIVE_FLOAT);
    describe_file();
    describe_features();
    describe_coverage();
    group_ = group("BathymetryCoverage/BathymetryCoverage.01/Group_001");
    const auto hole = static_cast<float>(kSeaVoid);
    const Sounding none{hole, hole};
    planes_.push_back(plane("BathymetryCoverage/BathymetryCoverage.01/Group_001/values", record_.get(), &none));
  }
  ~S102Writer() override {
    std::lock_guard lock(container_lock());
    group_ = Id();
    record_ = Id();
  }
  void place(const Window& band, std::span<const std::uint8_t> bytes) override {
    measure(reinterpret_cast<const float*>(bytes.data()), static_cast<std::size_t>(band.cells()));
    std::lock_guard lock(container_lock());
    put_rows(planes_[0], record_.get(), band, bytes.data());
  }
  void finish(WriteReport& report) override {
    Hdf5Writer::finish(report);
    report.format = "S-102";
  }

 private:
  float sign() const override { return -1; }
  void complete() override {
    put_float(group_, "minimumDepth", static_cast<double>(values_.low()));
    put_float(group_, "maximumDepth", static_cast<double>(values_.high()));
    put_float(group_, "minimumUncertainty", static_cast<double>(doubts_.low()));
    put_float(group_, "maximumUncertainty", static_cast<double>(doubts_.high()));
    group_ = Id();
    record_ = Id();
  }
  void put_bounds(const Id& at, const Bounds& box) const {
    put_float(at, "westBoundLongitude", box.west);
    put_float(at, "eastBoundLongitude", box.east);
    put_float(at, "southBoundLatitude", box.south);
    put_float(at, "northBoundLatitude", box.north);
  }
  void describe_file() const {
    const Id root(H5Gopen2(file_.get(), "/", H5P_DEFAULT), H5Gclose);
    const Frame& f = info_.frame;
    put_text(root, "productSpecification", "INT.IHO.S-102.2.2");
    put_text(root, "issueDate", compact_date());
    put_whole(root, "horizontalCRS", f.crs().epsg());
    put_text(root, "metadata", "");
    put_text(root, "geographicIdentifier", options_.survey);
    put_bounds(root, transformed(f.bounds(), Transform(f.crs(), Crs::wgs84())));
    put_whole(root, "verticalCS", 6498);  // depths in metres, positive down
    put_whole(root, "verticalCoordinateBase", 2);
    const HeightReference& h = info_.quantity.heights;
    for (const s102::Datum& d : s102::kDatums)
      if (d.known && h.known() && h == HeightReference::parse(d.name)) {
        put_whole(root, "verticalDatumReference", 1);
        put_whole(root, "verticalDatum", d.code);
        return;
      }
    if (h.epsg() == 0) return;
    put_whole(root, "verticalDatumReference", 2);
    put_whole(root, "verticalDatum", h.epsg());
  }
  std::string compact_date() const {
    std::string d = options_.date;
    std::erase(d, '-');
    return d.size() == 8 ? d : "";
  }
  // What a record means.
  void describe_features() const {
    const Id g = group("Group_F"), text(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(text.get(), H5T_VARIABLE);
    const hsize_t one = 1, two = 2;
    const char* code = "BathymetryCoverage";
    const Id a(H5Screate_simple(1, &one, nullptr), H5Sclose), b(H5Screate_simple(1, &two, nullptr), H5Sclose);
    const Id codes(
        H5Dcreate2(file_.get(), "Group_F/featureCode", text.get(), a.get(), H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT),
        H5Dclose);
    if (!codes.ok() || H5Dwrite(codes.get(), text.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, &code) < 0) fail();
    struct Field {
      const char *code, *name, *unit, *fill, *type, *lower, *upper, *closure;
    };
    const Field fields[2] = {{"depth", "depth", "metres", "1000000", "H5T_FLOAT", "-14", "11050", "closedInterval"},
                             {"uncertainty", "uncertainty", "metres", "1000000", "H5T_FLOAT", "0", "", "gtLeInterval"}};
    const Id type(H5Tcreate(H5T_COMPOUND, sizeof(Field)), H5Tclose);
    const struct {
      const char* name;
      std::size_t at;
    } columns[] = {{"code", HOFFSET(Field, code)},     {"name", HOFFSET(Field, name)},
                   {"uom.name", HOFFSET(Field, unit)}, {"fillValue", HOFFSET(Field, fill)},
                   {"datatype", HOFFSET(Field, type)}, {"lower", HOFFSET(Field, lower)},
                   {"upper", HOFFSET(Field, upper)},   {"closure", HOFFSET(Field, closure)}};
    for (const auto& c : columns) H5Tinsert(type.get(), c.name, c.at, text.get());
    const Id d(H5Dcreate2(file_.get(), "Group_F/BathymetryCoverage", type.get(), b.get(), H5P_DEFAULT, H5P_DEFAULT,
                          H5P_DEFAULT),
               H5Dclose);
    if (!d.ok() || H5Dwrite(d.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, fields) < 0) fail();
  }
  void describe_coverage() const {
    const Frame& f = info_.frame;
    const Id type = group("BathymetryCoverage");
    put_whole(type, "dataCodingFormat", 2);  // a regular grid
    put_whole(type, "dimension", 2);
    put_whole(type, "commonPointRule", 2);
    put_whole(type, "interpolationType", 1);
    put_float(type, "horizontalPositionUncertainty", -1);
    put_float(type, "verticalUncertainty", -1);
    put_whole(type, "numInstances", 1);
    put_whole(type, "sequencingRule.type", 1);
    put_text(type, "sequencingRule.scanDirection",
             f.crs().is_geographic() ? "Longitude, Latitude" : "Easting, Northing");
    const Id it = group("BathymetryCoverage/BathymetryCoverage.01");
    const Point first = f.centre(0, static_cast<double>(f.rows() - 1));
    put_whole(it, "numGRP", 1);
    put_text(it, "startSequence", "0,0");
    put_real(it, "gridOriginLongitude", first.x);
    put_real(it, "gridOriginLatitude", first.y);
    put_real(it, "gridSpacingLongitudinal", f.cell().x);
    put_real(it, "gridSpacingLatitudinal", f.cell().y);
    put_whole(it, "numPointsLongitudinal", f.cols());
    put_whole(it, "numPointsLatitudinal", f.rows());
    put_bounds(it, {first.x, first.y, f.centre(static_cast<double>(f.cols() - 1), 0).x, f.centre(0, 0).y});
  }

  Id record_, group_;
};

}  // namespace

WriteReport write_bag(const Grid& grid, const fs::path& path, const WriteOptions& options) {
  require_sea_floor(grid, "a BAG", path.string());
  return write_rows(
      grid, path, options, {SampleType::Float32, kSeaVoid},
      std::make_unique<BagWriter>(path, grid.info(), options, options.uncertainty && grid.carries_uncertainty()));
}

WriteReport write_s102(const Grid& grid, const fs::path& path, const WriteOptions& options) {
  require_sea_floor(grid, "S-102", path.string());
  if (grid.frame().crs().epsg() == 0)
    throw Error(ErrorCode::Refused, "S-102 names its CRS by an EPSG code, and this one has none", path.string(),
                "move it to one that has, for instance with reproject --crs utm");
  return write_rows(
      grid, path, options, {SampleType::Float32, kSeaVoid},
      std::make_unique<S102Writer>(path, grid.info(), options, options.uncertainty && grid.carries_uncertainty()));
}

}  // namespace katoptra
