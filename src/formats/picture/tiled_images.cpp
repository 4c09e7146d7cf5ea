// Pictures in tiles of several levels: GeoPackage (OGC 12-128r14, tiles) and KMZ (OGC 07-147r2, ground overlays with
// regions).
#include <algorithm>
#include <fmt/format.h>
#include <string>

#include "katoptra/base/error.hpp"

#include "base/scratch_sql.hpp"
#include "base/text.hpp"
#include "formats/bytes/zip_write.hpp"
#include "formats/vector/geopackage.hpp"
#include "image_writers.hpp"
#include "tile_pyramid.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kPackageTile = 256;

bool is_clear(const Pixels& tile) {
  for (std::size_t i = 3; i < tile.size(); i += 4)
    if (tile[i] != 0) return false;
  return true;
}

// ------------------------------------------------------------------------------------------------------ GeoPackage

class GeoPackageImage final : public ImageWriter {
 public:
  GeoPackageImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : frame_(image.frame),
        path_(path),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        scratch_(path.string()),
        pyramid_(frame_.cols(), frame_.rows(), kPackageTile,
                 [this](std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile) {
                   put(level, col, row, tile);
                 }) {
    create_geopackage(sql_, frame_.crs());
    sql_.run_all(
        "CREATE TABLE gpkg_tile_matrix_set (table_name TEXT NOT NULL PRIMARY KEY, srs_id INTEGER NOT NULL, min_x "
        "DOUBLE "
        "NOT NULL, min_y DOUBLE NOT NULL, max_x DOUBLE NOT NULL, max_y DOUBLE NOT NULL, CONSTRAINT fk_gtms_table_name "
        "FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name), CONSTRAINT fk_gtms_srs FOREIGN KEY (srs_id) "
        "REFERENCES gpkg_spatial_ref_sys (srs_id));"
        "CREATE TABLE gpkg_tile_matrix (table_name TEXT NOT NULL, zoom_level INTEGER NOT NULL, matrix_width INTEGER "
        "NOT "
        "NULL, matrix_height INTEGER NOT NULL, tile_width INTEGER NOT NULL, tile_height INTEGER NOT NULL, pixel_x_size "
        "DOUBLE NOT NULL, pixel_y_size DOUBLE NOT NULL, CONSTRAINT pk_ttm PRIMARY KEY (table_name, zoom_level), "
        "CONSTRAINT fk_tmm_table_name FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name));"
        "CREATE TABLE picture (id INTEGER PRIMARY KEY AUTOINCREMENT, zoom_level INTEGER NOT NULL, tile_column INTEGER "
        "NOT NULL, tile_row INTEGER NOT NULL, tile_data BLOB NOT NULL, UNIQUE (zoom_level, tile_column, tile_row));");
    sql_.run("BEGIN");
    place(image.name);
  }
  void add(const Pixels& rows) override { pyramid_.add(rows); }
  void finish(ImageReport& report) override {
    sql_.run("COMMIT");
    report.bytes = scratch_.pour([&](std::uint64_t at, auto bytes) { sink_->write_at(at, bytes); });
    sink_->commit();
    report.format = "GeoPackage";
  }

 private:
  std::int64_t zoom(std::size_t level) const {
    return std::ssize(pyramid_.levels()) - 1 - static_cast<std::int64_t>(level);
  }

  // The whole is one tile at the coarsest level and twice as many each way at every finer one.
  void place(const std::string& name) {
    const Bounds b = frame_.bounds();
    const auto levels = pyramid_.levels().size();
    const double across = static_cast<double>(kPackageTile << (levels - 1));
    const double box[] = {b.west, b.north - across * frame_.cell().y, b.west + across * frame_.cell().x, b.north};
    const double inside[] = {b.west, b.south, b.east, b.north};
    const std::int64_t srs = geopackage_srs(frame_.crs());
    SqlQuery contents = sql_.query(
        "INSERT INTO gpkg_contents (table_name, data_type, identifier, last_change, min_x, min_y, max_x, max_y, "
        "srs_id) "
        "VALUES ('picture','tiles',?,'1970-01-01T00:00:00.000Z',?,?,?,?,?)");
    SqlQuery set = sql_.query("INSERT INTO gpkg_tile_matrix_set VALUES ('picture',?,?,?,?,?)");
    contents.bind(1, std::string_view(name)).bind(6, srs);
    set.bind(1, srs);
    for (int i = 0; i < 4; ++i) {
      contents.bind(2 + i, inside[i]);
      set.bind(2 + i, box[i]);
    }
    contents.run();
    set.run();
    for (std::size_t level = 0; level < levels; ++level) {
      const std::int64_t n = std::int64_t{1} << zoom(level);
      const auto size = static_cast<double>(std::int64_t{1} << level);
      SqlQuery row = sql_.query("INSERT INTO gpkg_tile_matrix VALUES ('picture',?,?,?,256,256,?,?)");
      row.bind(1, zoom(level)).bind(2, n).bind(3, n).bind(4, size * frame_.cell().x).bind(5, size * frame_.cell().y);
      row.run();
    }
  }
  void put(std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile) {
    if (is_clear(tile)) return;
    const auto png = png_bytes(tile, static_cast<int>(kPackageTile));
    SqlQuery q = sql_.query("INSERT INTO picture (zoom_level, tile_column, tile_row, tile_data) VALUES (?,?,?,?)");
    q.bind(1, zoom(level)).bind(2, col).bind(3, row);
    q.bind_blob(4, {reinterpret_cast<const char*>(png.data()), png.size()});
    q.run();
  }

  Frame frame_;
  fs::path path_;
  std::unique_ptr<ByteSink> sink_;
  ScratchSql scratch_;
  Sql& sql_ = scratch_.sql();
  TilePyramid pyramid_;
};

// ------------------------------------------------------------------------------------------------------------- KMZ

constexpr std::int64_t kOneOverlay = 2048, kOverlayTile = 512;
constexpr int kLeastSeen = 200;  // pixels of the screen from which on a tile is shown

class KmzImage final : public ImageWriter {
 public:
  KmzImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : frame_(image.frame),
        name_(image.name),
        edge_(std::max(frame_.cols(), frame_.rows()) <= kOneOverlay ? std::max(frame_.cols(), frame_.rows())
                                                                    : kOverlayTile),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        zip_(*sink_, path.string()),
        pyramid_(frame_.cols(), frame_.rows(), edge_,
                 [this](std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile) {
                   put(level, col, row, tile);
                 }) {
    if (!frame_.crs() || !frame_.crs().same_place(Crs::wgs84()))
      throw Error(ErrorCode::Refused, "KMZ is in longitude and latitude", path.string(),
                  frame_.crs() ? "bring the grid to EPSG:4326 first" : "tell its CRS with --crs");
  }
  void add(const Pixels& rows) override { pyramid_.add(rows); }
  void finish(ImageReport& report) override {
    zip_.add("doc.kml",
             "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<kml "
             "xmlns=\"http://www.opengis.net/kml/2.2\">\n<Document>\n<name>" +
                 xml_text(name_) + "</name>\n" + overlays_ + "</Document>\n</kml>\n");
    report.bytes = zip_.finish();
    sink_->commit();
    report.format = "KMZ";
  }

 private:
  void put(std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile) {
    const auto& l = pyramid_.levels()[level];
    const std::int64_t across = std::min(edge_, l.cols - col * edge_), down = std::min(edge_, l.rows - row * edge_);
    Pixels inside;
    for (std::int64_t r = 0; r < down; ++r)
      inside.insert(inside.end(), tile.begin() + r * edge_ * 4, tile.begin() + (r * edge_ + across) * 4);
    if (is_clear(inside)) return;
    const std::string file = fmt::format("{}/{}_{}.png", level, col, row);
    zip_.add(file, png_bytes(inside, static_cast<int>(across)));
    const double x = frame_.cell().x * static_cast<double>(std::int64_t{1} << level),
                 y = frame_.cell().y * static_cast<double>(std::int64_t{1} << level);
    const double west = frame_.west() + static_cast<double>(col * edge_) * x,
                 north = frame_.north() - static_cast<double>(row * edge_) * y;
    const std::string box =
        fmt::format("<north>{:.12f}</north><south>{:.12f}</south><east>{:.12f}</east><west>{:.12f}</west>", north,
                    north - static_cast<double>(down) * y, west + static_cast<double>(across) * x, west);
    const bool one = pyramid_.levels().size() == 1, coarsest = level + 1 == pyramid_.levels().size();
    overlays_ += fmt::format("<GroundOverlay><name>{}</name>", one ? xml_text(name_) : file);
    // A finer level lies over a coarser one as soon as it is shown.
    if (!one)
      overlays_ +=
          fmt::format("<Region><LatLonAltBox>{}</LatLonAltBox><Lod><minLodPixels>{}</minLodPixels></Lod></Region>", box,
                      coarsest ? 0 : kLeastSeen);
    overlays_ +=
        fmt::format("<drawOrder>{}</drawOrder><Icon><href>{}</href></Icon><LatLonBox>{}</LatLonBox></GroundOverlay>\n",
                    pyramid_.levels().size() - level, file, box);
  }

  Frame frame_;
  std::string name_, overlays_;
  std::int64_t edge_;
  std::unique_ptr<ByteSink> sink_;
  ZipWriter zip_;
  TilePyramid pyramid_;
};

}  // namespace

std::unique_ptr<ImageWriter> geopackage_image(const PlacedImage& i, const fs::path& p, const ImageWriteOptions& o) {
  return std::make_unique<GeoPackageImage>(i, p, o);
}
std::unique_ptr<ImageWriter> kmz_image(const PlacedImage& i, const fs::path& p, const ImageWriteOptions& o) {
  return std::make_unique<KmzImage>(i, p, o);
}

}  // namespace katoptra
