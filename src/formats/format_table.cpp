// The formats, a row each. This is the one place that knows all readers and writers.
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/text.hpp"
#include "format_row.hpp"
#include "formats/hdf5/guard.hpp"
#include "formats/las/las_source.hpp"
#include "formats/las/las_write.hpp"
#include "formats/text/text_points.hpp"
#include "formats/vector/dxf.hpp"
#include "formats/vector/geojson.hpp"
#include "formats/vector/geopackage.hpp"
#include "formats/vector/gpx.hpp"
#include "formats/vector/kml.hpp"
#include "formats/vector/shapefile.hpp"
#include "formats/vector/tables.hpp"
#include "readers.hpp"
#include "writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using Head = std::span<const std::uint8_t>;
using namespace std::string_literals;

// NetCDF 4 and BAG are both HDF5, which a helper looks through first: what kills a library does not kill us.
GridFile open_container(const Located& file, const OpenOptions& options) {
  switch (probe_apart(file, options)) {
    case Container::Bag:
      return open_bag(file, options);
    case Container::S102:
      return open_s102(file, options);
    default:
      return open_netcdf(file, options);
  }
}

template <bool kCompressed>
void write_las_as(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options, PointWriteReport& report) {
  las::write_las(cloud, sink, kCompressed, options, report);
}
bool recognises_las(const Located&, Head head) { return las::is_las(head); }
PointFile open_las(const Located& file, const PointOpenOptions& options) { return las::open_las(file.bytes, options); }
PointFile open_text(const Located& file, const PointOpenOptions& options) {
  return open_text_points(file.bytes, options);
}

// Archives are opened before their content is tried (see `locate`), so nothing is recognised here.
FormatRow archive(const char* key, std::vector<std::string> endings, const char* media, const std::string& damaged) {
  const std::string name = "damaged" + endings[0];
  return {.facts = {.key = key,
                    .name = key,
                    .endings = std::move(endings),
                    .media_type = fmt::format("application/{}", media),
                    .media_word = media,
                    .damaged = {name, damaged}},
          .is_archive = true};
}

std::vector<FormatRow> make_rows() {
  std::vector<FormatRow> rows = {
      {.facts = {.key = "tiff",
                 .name = "GeoTIFF",
                 .endings = {".tif", ".tiff"},
                 .media_type = "image/tiff; application=geotiff; profile=cloud-optimized",
                 .media_word = "tiff",
                 .beside = {".tfw", ".tifw", ".tiffw", ".wld", ".prj", ".json"},
                 .alone = true,
                 .damaged = {"damaged.tif", "II*\0\xf0\xff\xff\x7f"s}},
       .recognises = [](const Located&, Head head) { return is_tiff(head); },
       .open_grid = open_tiff,
       .write_grid = write_tiff},
      {.facts = {.key = "bag",
                 .name = "BAG",
                 .endings = {".bag"},
                 .media_type = "application/x-hdf5",
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .heights_only = true,
                 .damaged = {"damaged.bag", "\x89HDF\r\n\x1a\n\0\0\0\0\0"s}},
       .recognises = [](const Located& f, Head head) { return is_hdf5(head) && lower_extension(f.name) == ".bag"; },
       .open_grid = open_container,
       .write_grid = write_bag},
      {.facts = {.key = "s102",
                 .name = "S-102",
                 .endings = {".h5"},
                 .media_type = "application/x-hdf5",
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .heights_only = true,
                 .damaged = {"damaged.h5", "\x89HDF\r\n\x1a\n\0\0\0\0\0"s}},
       .recognises = [](const Located& f, Head head) { return is_hdf5(head) && lower_extension(f.name) == ".h5"; },
       .open_grid = open_container,
       .write_grid = write_s102},
      {.facts = {.key = "netcdf",
                 .name = "NetCDF",
                 .endings = {".nc", ".nc4", ".cdf", ".grd"},
                 .media_type = "application/netcdf",
                 .media_word = "netcdf",
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .damaged = {"damaged.nc", "\x89HDF\r\n\x1a\n\2\x08\x08\0"s + std::string(60, '\x7f')}},
       .recognises = [](const Located&, Head head) { return is_netcdf_classic(head) || is_hdf5(head); },
       .open_grid = open_container,
       .write_grid = write_netcdf},
      {.facts = {.key = "hgt",
                 .name = "HGT",
                 .endings = {".hgt"},
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .heights_only = true,
                 .damaged = {"S38W032.hgt", "three"}},
       .recognises = [](const Located& f, Head) { return lower_extension(f.name) == ".hgt" && is_hgt_name(f.name); },
       .open_grid = [](const Located& f, const OpenOptions&) { return open_hgt(f); },
       .write_grid = write_hgt},
      {.facts = {.key = "dted",
                 .name = "DTED",
                 .endings = {".dt0", ".dt1", ".dt2"},
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .heights_only = true,
                 .damaged = {"damaged.dt1", "UHL10310000W0380000S" + std::string(60, ' ') + "DSI"}},
       .recognises = [](const Located&, Head head) { return is_dted(head); },
       .open_grid = [](const Located& f, const OpenOptions&) { return open_dted(f); },
       .write_grid = write_dted},
      {.facts = {.key = "ascii_grid",
                 .name = "ASCII grid",
                 .endings = {".asc"},
                 .media_type = "text/plain",
                 .beside = {".prj", ".json"},
                 .damaged = {"damaged.asc",
                             "ncols 3\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2 3\n4 five 6\n"}},
       // The header of a flat file may have the same keywords.
       .recognises = [](const Located& f,
                        Head head) { return is_ascii_grid(head) && lower_extension(f.name) != ".hdr"; },
       .open_grid = [](const Located& f, const OpenOptions&) { return open_ascii_grid(f); },
       .write_grid = write_ascii_grid},
      {.facts = {.key = "xyz",
                 .name = "XYZ text",
                 .endings = {".xyz"},
                 .media_type = "text/plain",
                 .beside = {".prj", ".json"},
                 .sure = false,
                 .points_only = true,
                 .damaged = {"damaged.xyz", "0 0 1\n1 0 2\n0 1 3\n1 1\n"}},
       .recognises = [](const Located&, Head head) { return is_xyz(head); },
       .open_grid = open_xyz,
       .open_points = open_text,
       .read_layer = read_soundings,
       .write_grid = write_xyz,
       .write_points = write_xyz_points,
       .write_layer = write_soundings},
      {.facts = {.key = "laz",
                 .name = "LAZ",
                 .endings = {".laz"},
                 .media_type = "application/vnd.laszip",
                 .media_word = "laszip",
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .damaged = {"damaged.laz", "LASF"s + std::string(20, '\0') + "\1\4"s + std::string(400, '\0')}},
       .recognises = recognises_las,
       .open_points = open_las,
       .write_points = write_las_as<true>},
      {.facts = {.key = "las",
                 .name = "LAS",
                 .endings = {".las"},
                 .media_type = "application/vnd.las",
                 .media_word = "las",
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .damaged = {"damaged.las", "LASF"s + std::string(20, '\0') + "\1\2"s + std::string(400, '\0')}},
       .recognises = recognises_las,
       .open_points = open_las,
       .write_points = write_las_as<false>},
      {.facts = {.key = "flat",
                 .name = "flat binary",
                 .endings = {".bil", ".bip", ".bsq", ".flt"},
                 .beside = {".hdr", ".prj", ".json", ".blw"},
                 .damaged = {"damaged.hdr", "BYTEORDER I\nNROWS 2\nNCOLS 3\nNBITS 16\n"}},
       .recognises = [](const Located& f, Head) { return is_flat(f); },
       .open_grid = open_flat,
       .write_grid = write_flat},
      {.facts = {.key = "png",
                 .name = "PNG height map",
                 .endings = {".png"},
                 .media_type = "image/png",
                 .beside = {".json"},
                 .heights_only = true,
                 .fits_range = true},
       .write_grid = write_png},
      {.facts = {.key = "csv",
                 .name = "CSV table",
                 .endings = {".csv", ".txt"},
                 .media_type = "text/csv",
                 .beside = {".prj", ".json"},
                 .sure = false,
                 .opened_by = "spreadsheets",
                 .damaged = {"damaged.csv", "x,y\n1\n"}},
       .open_points = open_text,
       .read_layer = read_table_or_soundings,
       .write_points = write_table_points,
       .write_layer = write_table},
      {.facts = {.key = "geojson",
                 .name = "GeoJSON",
                 .endings = {".geojson", ".json"},
                 .media_type = "application/geo+json",
                 .alone = true,
                 .sure = false,
                 .lonlat = true,
                 .opened_by = "web maps and mapping programs",
                 .damaged = {"damaged.geojson",
                             R"({"type": "Feature", "geometry": {"type": "Point", "coordinates": 7}})"}},
       .read_layer = [](const fs::path& path, const Crs&) { return read_geojson(path); },
       .write_layer = write_geojson,
       .open_writer = open_geojson_writer},
      {.facts = {.key = "geopackage",
                 .name = "GeoPackage",
                 .endings = {".gpkg"},
                 .media_type = "application/geopackage+sqlite3",
                 .alone = true,
                 .opened_by = "mapping programs and field apps; one file with its CRS",
                 .damaged = {"damaged.gpkg", "SQLite format 3\0"s + std::string(200, '\x55')}},
       .read_layer = [](const fs::path& path, const Crs&) { return read_geopackage(path); },
       .write_layer = write_geopackage,
       .open_writer = open_geopackage_writer},
      {.facts = {.key = "gridded_coverage",
                 .name = "GeoPackage coverage",
                 .endings = {".gpkg"},
                 .beside = {".prj", ".json"},
                 .alone = true,
                 .shares_ending = true,
                 .damaged = {"damaged.gpkg", "SQLite format 3\0"s + std::string(200, '\x55')}},
       .recognises = is_coverage,
       .open_grid = open_coverage},
      {.facts = {.key = "gpx",
                 .name = "GPX",
                 .endings = {".gpx"},
                 .media_type = "application/gpx+xml",
                 .alone = true,
                 .lonlat = true,
                 .opened_by = "receivers and walking apps",
                 .damaged = {"damaged.gpx", "<gpx><wpt lat=\"north\" lon=\"0\"/></gpx>"}},
       .read_layer = [](const fs::path& path, const Crs&) { return read_gpx(path); },
       .write_layer = write_gpx},
      {.facts = {.key = "shapefile",
                 .name = "shapefile",
                 .endings = {".shp"},
                 .media_type = "application/vnd.shp",
                 .beside = {".shx", ".dbf", ".cpg", ".prj"},
                 .opened_by = "mapping programs; send all files of its name together",
                 .damaged = {"damaged.shp", std::string("\0\0\x27\x0a", 4) + std::string(120, '\x7f')}},
       .read_layer = read_shapefile,
       .write_layer = write_shapefile},
      {.facts = {.key = "kml",
                 .name = "KML",
                 .endings = {".kml"},
                 .media_type = "application/vnd.google-earth.kml+xml",
                 .media_word = "kml+xml",
                 .alone = true,
                 .lonlat = true,
                 .opened_by = "globes and map apps on phones",
                 .damaged = {"damaged.kml",
                             "<kml><Placemark><Point><coordinates>here</coordinates></Point></Placemark></kml>"}},
       .read_layer = [](const fs::path& path, const Crs&) { return read_kml(path); },
       .write_layer = write_kml},
      {.facts = {.key = "kmz",
                 .name = "KMZ",
                 .endings = {".kmz"},
                 .media_type = "application/vnd.google-earth.kmz",
                 .media_word = "google-earth.kmz",
                 .alone = true,
                 .lonlat = true,
                 .opened_by = "globes and map apps on phones",
                 .damaged = {"damaged.kmz", "PK\x03\x04"s + std::string(60, '\x12')}},
       .read_layer = [](const fs::path& path, const Crs&) { return read_kmz(path); },
       .write_layer = write_kmz},
      {.facts = {.key = "dxf",
                 .name = "DXF",
                 .endings = {".dxf"},
                 .media_type = "image/vnd.dxf",
                 .beside = {".prj"},
                 .opened_by = "drawing and CAD programs",
                 .damaged = {"damaged.dxf", "  0\nSECTION\n  2\nENTITIES\n  0\nPOINT\n 10\nwest\n"}},
       .read_layer = read_dxf,
       .write_layer = write_dxf},
      archive("zip", {".zip"}, "zip", "PK\x03\x04"s + std::string(60, '\x11')),
      archive("tar", {".tar", ".tgz"}, "x-tar", std::string(257, 'a') + "ustar\0"s + "00" + std::string(300, 'z')),
      archive("gz", {".gz"}, "gzip", "\x1f\x8b\x08\0\0\0\0\0\0\x03 nothing packed"s),
      archive("bz2", {".bz2"}, "x-bzip2", "BZh91AY&SY nothing packed"),
      archive("xz", {".xz"}, "x-xz",
              "\xfd"
              "7zXZ\0 nothing packed"s),
      archive("zst", {".zst"}, "zstd", "\x28\xb5\x2f\xfd nothing packed"s),
  };
  for (FormatRow& r : rows) {
    const auto does = [](std::vector<Holds>& list, Holds what, bool it) {
      if (it) list.push_back(what);
    };
    Format& f = r.facts;
    does(f.read, Holds::Grids, r.open_grid);
    does(f.read, Holds::Points, r.open_points);
    does(f.read, Holds::Features, r.read_layer);
    does(f.read, Holds::Files, r.is_archive);
    does(f.written, Holds::Grids, r.write_grid);
    does(f.written, Holds::Points, r.write_points);
    does(f.written, Holds::Features, r.write_layer);
  }
  return rows;
}

constexpr std::size_t kHead = 4096;

}  // namespace

const std::vector<FormatRow>& format_rows() {
  static const std::vector<FormatRow> rows = make_rows();
  return rows;
}

const FormatRow* row_of(const fs::path& path, Holds holds, Use use) {
  for (const FormatRow& r : format_rows())
    if (r.facts.holds(holds, use) && r.facts.ends(path.filename().string())) return &r;
  return nullptr;
}

const FormatRow* row_recognising(const Located& file) {
  const auto head = file.bytes->head(kHead);
  for (const FormatRow& r : format_rows())
    if (r.recognises && r.recognises(file, head)) return &r;
  return nullptr;
}

}  // namespace katoptra
