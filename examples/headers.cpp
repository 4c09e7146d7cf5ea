// The small examples that stand at the top of the headers, so that they cannot rot.
#include <cstdio>
#include <thread>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/catalogue/catalogue_file.hpp"
#include "katoptra/catalogue/fetch.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/catalogue/orders.hpp"
#include "katoptra/catalogue/places.hpp"
#include "katoptra/catalogue/point_index.hpp"
#include "katoptra/catalogue/tile.hpp"
#include "katoptra/check/check.hpp"
#include "katoptra/check/zones.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/turn.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/study/sheets.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/study/tables.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/products.hpp"
#include "katoptra/terrain/sample.hpp"
#include "katoptra/terrain/section.hpp"
#include "katoptra/view/map.hpp"
#include "katoptra/view/palette.hpp"

#include "service.hpp"

using namespace katoptra;

int main() {
  {  // base/units.hpp
    Length interval = Length::parse("1 ft");
    Length reach = 250_m;
    Angle sun = Angle::parse("315deg");
    std::printf("units %.4f %.0f %.0f\n", interval.metres(), reach.metres(), sun.degrees());
  }
  {  // geo/crs.hpp
    Crs crs = Crs::parse("EPSG:32725+3855");
    Transform there(Crs::parse("EPSG:4326"), crs);
    Point p = there.forward({-31.0, -37.55});
    std::printf("crs %s %.1f %.1f\n", crs.heights().name().c_str(), p.x, p.y);
  }
  {  // geo/area.hpp
    Area a = Area::box({-31.05, -37.60, -30.95, -37.50});
    Area b = parse_area("circle:-31,-37.55,500m");
    Area c = a.grown(50_m).in(Crs::parse("EPSG:32725"));
    std::printf("area %.0f %s %s\n", b.ground_area() / 1e4, c.crs().label().c_str(), a.utm().label().c_str());
  }
  {  // grid/frame.hpp
    Frame f(Crs::parse("EPSG:32725"), 500000, 5844000, {1, 1}, 400, 300);
    std::printf("frame %.1f %.1f\n", f.centre(0, 0).x, f.centre(0, 0).y);
  }
  const Grid dem = open_grid(DEMO "reference/truth.tif");
  const Area area = Area::circle({677700, 5841400}, 100_m, dem.frame().crs());
  {  // grid/grid.hpp, surface/clip.hpp, surface/reproject.hpp, terrain/derivatives.hpp
    const Frame frame = frame_for(dem.frame(), Crs::wgs84(), {.area = &area});
    Grid shade = hillshade(reproject(clip(dem, area, {.margin = 50_m}), frame));
    Block b = shade.read({0, 0, 64, 64});
    Grid steep = slope(dem, SlopeAs::Percent);
    std::printf("grid %d %.0f\n", b.at(30, 30) >= 1, static_cast<double>(steep.at(10, 10)));
  }
  {  // formats/grid_file.hpp
    GridFile file = open_grid_file(DEMO "reference/truth.tif");
    WriteReport r = write_grid(hillshade(file.grid), "shade.tif", {.overwrite = true});
    std::printf("file %s %s\n", file.facts.format.c_str(), name_of(r.type));
  }
  {  // surface/mosaic.hpp, surface/fill.hpp
    const std::vector<Grid> tiles{open_grid(DEMO "ground-2022/sheet_b1.tif"),
                                  open_grid(DEMO "ground-2022/sheet_b2.tif")};
    Grid whole = mosaic(tiles, {.feather = 20_m});
    FillResult r = fill_voids(whole, {.largest = 200_m});
    std::printf("mosaic %zu %s\n", whole.info().notes.size(), r.report.cells_closed > 100 ? "closed" : "");
  }
  {  // terrain: contours, section, sample
    std::vector<ContourLine> lines = contours(dem, {.interval = 1_ft});
    Section s = section(dem, {{677600, 5841300}, {677800, 5841500}});
    Section t = section(dem, line_by_bearing(dem.frame().crs(), {677600, 5841300}, 70_deg, 200_m));
    std::vector<double> z = sample(dem, std::vector<Point>{{677600, 5841300}});
    std::printf("terrain %d %.1f %.1f %d\n", lines.size() > 100, s.length().metres(), t.length().metres(),
                z[0] == s.points[0].value);
  }
  {  // check/check.hpp
    CheckReport report = check(dem, {.area = &area});
    std::printf("check %d\n", report.failed());
  }
  {  // catalogue: catalogue, find, catalogue_file, stac, places, fetch
    const Catalogue c = read_catalogue(DEMO, {.area = &area, .filter = {.from_year = 2015}});
    const Shortlist s = find_tiles(c, area);
    CatalogueFile file("surveys.katalog");
    file.refresh_folder(DEMO);
    const std::string item = item_of_tile(s.tiles.at(0).tile, {.href = "sheet.tif"});
    const std::vector<TileRecord> tiles = tiles_of_item(item, {.base = "http://127.0.0.1:8080/collections/a/items/b"});
    Area inlet = read_gazetteer(DEMO "gazetteer.geojson").area_of("kessa inlet");
    std::printf("catalogue %.2f %zu %zu %s %.0f\n", s.covered_fraction, s.gaps.size(),
                file.search({.area = &area}).tiles.size(), tiles[0].path.c_str(), inlet.ground_area() / 1e4);
    write_text_file("list.csv", shortlist_csv(s));
    FetchPlan p = plan_fetch(read_shortlist("list.csv"), {.folder = "tiles"});
    FetchReport r = fetch_tiles(read_shortlist("list.csv"), {.folder = "tiles"});
    std::printf("fetch %d %zu\n", p.bytes == r.moved, r.missing().size());
  }
  {  // formats/http.hpp, catalogue/orders.hpp; service/service.hpp
    Service service({.folder = DEMO});
    std::thread t([&] { service.run(); });
    auto tile = open_url(service.address() + "files/ground-2022/sheet_b2.tif");
    HttpResponse r = http().send({.url = service.address()});
    OrderBook book("orders.book");
    const auto id = submit_order(book, {.service = service.address(), .area = area, .inputs = R"({"cell": 2})"});
    Order o = follow_order(book, id);
    collect_order(book, id, "surface.tif");
    std::printf("http %d %d; order %s, %lld cells\n", r.status, traffic().bytes < tile->size(), o.state.c_str(),
                static_cast<long long>(open_grid("surface.tif").frame().cols()));
    service.stop();
    t.join();
  }
  {  // formats/vector_file.hpp
    Layer points = read_layer(DEMO "control.csv", Crs::parse("EPSG:32725"));
    std::printf("vector %zu\n", points.features.size());
  }
  {  // view
    Palette p = Palette::land_and_sea(-35, 420);
    Colour c = p.at(12.5);
    Picture picture = draw_map(
        dem, {.title = "Kessa Inlet",
              .overlays = {{contour_layer(contours(dem, {.interval = 10_m}), dem), OverlayStyle::Contours, ""}}});
    std::printf("view %d %d\n", c.green > c.blue, picture.bytes.size() > 10000);
  }
  {  // study/study.hpp
    Study s = read_study(DEMO "study.toml");
    StudyPlan p = plan_study(s);
    std::printf("study %zu %lld\n", s.products.size(), static_cast<long long>(p.cells));
  }
  {  // base: checksum, parallel, run_options; terrain/products, formats/format
    Sha256 sum;
    sum.add(open_file(DEMO "area.geojson")->head(16));
    std::vector<double> rows(100);
    parallel_for(rows.size(), {.threads = 2}, [&](std::size_t r) { rows[r] = static_cast<double>(r); });
    const Product& p = *product_named("slope");
    Grid steep = p.make(dem, p.settings({{"as", "percent"}}));
    std::printf("base %zu %.0f %s %s\n", sum.hex().size(), rows[99], unit_name(steep.quantity()).c_str(),
                format_of("sheet_a1.laz")->name.c_str());
  }
  {  // geo: feature, geometry; grid: quantity, turn, cache
    Layer pegs{.name = "pegs", .crs = Crs::parse("EPSG:32725"), .features = {{Point{677600, 5841300}, {{"z", 12.5}}}}};
    MultiPolygon both = overlay({to_polygon({0, 0, 2, 2})}, {to_polygon({1, 1, 3, 3})}, Overlay::Intersection);
    Quantity feet{.kind = QuantityKind::Height, .unit = LengthUnit::Foot, .unit_known = true};
    const Grid world =
        grid_from_function(Frame(Crs::wgs84(), -180, 90, {10, 10}, 36, 18), [](double x, double) { return x; });
    Grid pacific = around_longitude(world, 180);
    BlockCache::Entry block =
        BlockCache::shared().get(BlockCache::shared().new_owner(), 17, [] { return BlockCache::Bytes(8); });
    std::printf("plain %zu %.0f %s %.0f %zu\n", pegs.features.size(), bounds_of(both).width(), unit_name(feet).c_str(),
                pacific.frame().west(), block->size());
  }
  {  // catalogue: tile, point_index; check/finding; study: judgements, tables
    TileRecord t = describe_tile(DEMO "ground-2022/sheet_b2.tif");
    PointCloud sheet =
        with_kept_index(open_points(DEMO "lidar-2022/lidar_nw.laz"), DEMO "lidar-2022/lidar_nw.laz", "cache");
    int failures = 0;
    for (const Finding& f : check(dem).findings) failures += f.severity == Severity::Failure;
    const std::string table = zones_csv(statistics_by_polygon(dem, read_layer(DEMO "area.geojson")));
    const std::string line = section_csv(section(dem, {{677600, 5841300}, {677800, 5841500}}));
    std::printf("tables %d %d %d %s %s\n", t.openable, sheet.parts() > 0, failures, table.substr(0, 4).c_str(),
                line.substr(0, 8).c_str());
  }
  {  // study/sheets.hpp
    SheetsReport r = write_sheets(dem, "ground/ground.tif", {.edge = 400_m, .made_from = "truth.tif"});
    Grid whole = open_grid(r.index);
    std::printf("sheets %zu %d\n", r.sheets.size(), whole.frame() == dem.frame());
  }
}
