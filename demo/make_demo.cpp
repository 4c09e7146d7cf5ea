// Draws the surveys of Marrowick from its truth, with the flaws that people meet, and writes them where the example
// study expects them. Deterministic: the same bytes every time.
//
// `--clean` draws the rasters without their flaws: what a check must not complain about.
//
// Planted, and told by name in demo/data/README.md: voids on steep slopes (HGT), two years that overlap, a sheet in
// feet, a sheet without a CRS, heights above the ellipsoid in one survey, an offset of 0.18 m in the older one, a
// spike, stripes, a gap between shore and sonar, a restricted sheet, a truncated file.
#include <archive.h>
#include <archive_entry.h>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <functional>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "lidar.hpp"
#include "marrowick.hpp"

namespace {

using namespace katoptra;
using marrowick::ground_utm;
using marrowick::normal;
namespace fs = std::filesystem;

fs::path g_folder;
bool g_clean = false;  // the same surveys without what is wrong with them

struct Survey {
  std::string folder, name, date;
  Quantity quantity;
  std::uint64_t seed;
  double noise;
};

Quantity heights_in(const HeightReference& reference, SurfaceKind kind, LengthUnit unit = LengthUnit::Metre) {
  return {.kind = QuantityKind::Height,
          .unit = unit,
          .unit_known = true,
          .other_unit = {},
          .heights = reference,
          .surface = kind};
}

// Cells of a sheet in row order: truth plus noise, changed by `flaw` (column, row, east, north, height), in
// centimetres.
using Flaw = std::function<double(std::int64_t, std::int64_t, double, double, double)>;

void sheet(const Survey& s, const std::string& name, const Frame& f, const Flaw& flaw) {
  std::vector<float> values(static_cast<std::size_t>(f.cols() * f.rows()));
  const double unit = metres_per(s.quantity.unit);
  parallel_for(static_cast<std::size_t>(f.rows()), {}, [&](std::size_t r) {
    const auto row = static_cast<std::int64_t>(r);
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(row));
      const auto i = static_cast<std::int64_t>(p.x * 4), j = static_cast<std::int64_t>(p.y * 4);
      double h = ground_utm(p.x, p.y) + s.noise * normal(i, j, s.seed);
      h = flaw(c, row, p.x, p.y, h) / unit;
      values[r * static_cast<std::size_t>(f.cols()) + static_cast<std::size_t>(c)] =
          std::isnan(h) ? kVoid : static_cast<float>(std::round(h * 100) / 100);
    }
  });
  fs::create_directories(g_folder / s.folder);
  write_grid(grid_from_values(f, std::move(values), s.quantity, SampleType::Float32, name),
             g_folder / s.folder / (name + ".tif"),
             {.overwrite = true,
              .void_value = -9999,
              .date = s.date,
              .survey = s.name,
              .level = 9,
              .overviews = false,
              .tile = 256,
              .run = {}});
}

void record(const Survey& s, const std::string& more = {}) {
  write_text_file(g_folder / s.folder / "survey.toml",
                  fmt::format("name = \"{}\"\ndate = {}\nlicence = \"CC0-1.0\"\n"
                              "uncertainty = \"{:g}m\"\nerror_reach = \"0m\"\n{}",
                              s.name, s.date, s.noise, more),
                  {.overwrite = true});
}

// Houses were taken out of the ground: holes of about 8 by 10 m; and single cells without an echo.
bool is_hole(double x, double y) {
  const double cell = 110, i = std::floor(x / cell), j = std::floor(y / cell);
  const auto a = static_cast<std::int64_t>(i), b = static_cast<std::int64_t>(j);
  if (marrowick::noise(a, b, 51) > 0.15) {
    const double cx = (i + 0.5 + 0.3 * marrowick::noise(a, b, 52)) * cell,
                 cy = (j + 0.5 + 0.3 * marrowick::noise(a, b, 53)) * cell;
    if (std::abs(x - cx) < 4 + marrowick::noise(a, b, 54) && std::abs(y - cy) < 5 + marrowick::noise(a, b, 55))
      return true;
  }
  return marrowick::noise(static_cast<std::int64_t>(x / 2), static_cast<std::int64_t>(y / 1.5), 56) > 0.9996;
}

// Low points that are none: echoes that came by way of a wall or a wet leaf, and drew the ground down around them.
double false_pit(double x, double y) {
  constexpr Point kPits[] = {{677361, 5841695}, {677311, 5841723}, {677280, 5841658}, {677477, 5841527},
                             {677560, 5841556}, {677641, 5841254}, {677490, 5841303}, {677700, 5841500}};
  double deep = 0;
  for (const Point& p : kPits) deep += 0.5 * std::exp(-((x - p.x) * (x - p.x) + (y - p.y) * (y - p.y)) / 3);
  return deep < 0.005 ? 0 : deep;
}

double land_only(double h) { return h < -0.3 ? std::nan("") : h; }

void ground_2022(const Crs& utm, const HeightReference& egm) {
  const Survey metre{"ground-2022", "Marrowick ground 2022", "2022-03-14", heights_in(egm, SurfaceKind::Ground), 22,
                     0.03};
  Survey feet = metre;
  feet.quantity.unit = LengthUnit::Foot;
  for (int col = 0; col < 3; ++col)
    for (int row = 0; row < 3; ++row) {
      const std::string name = fmt::format("sheet_{}{}", "abc"[col], row + 1);
      const Crs crs = name == "sheet_c1" && !g_clean ? Crs() : utm;
      const Frame f(crs, 677000 + 500 * col, 5842000 - 400 * row, {1, 1}, 500, 400);
      sheet(name == "sheet_b1" && !g_clean ? feet : metre, name, f,
            [&](std::int64_t c, std::int64_t r, double x, double y, double h) {
              if (g_clean) return land_only(h);
              if (name == "sheet_b2" && c == 163 && r == 78) return h + 35;              // a bird, or a mast
              if (name == "sheet_a2" && r >= 120 && r <= 320 && r % 40 == 0) h += 0.35;  // stripes of the scanner
              h -= false_pit(x, y);
              return is_hole(x, y) ? std::nan("") : land_only(h);
            });
    }
  record(metre, "custodian = \"Marrowick Land Office\"\nrestricted = [\"sheet_c3\"]\n");
}

void ground_2016(const Crs& utm, const HeightReference& egm) {
  const Survey s{"ground-2016", "Marrowick ground 2016", "2016-09-02", heights_in(egm, SurfaceKind::Ground), 16, 0.08};
  for (int col = 0; col < 2; ++col)
    for (int row = 0; row < 2; ++row) {
      const std::string name = fmt::format("ground_{}{}", "ns"[row], "we"[col]);
      sheet(s, name, Frame(utm, 676600 + 1000 * col, 5842200 - 900 * row, {2, 2}, 500, 450),
            [](std::int64_t, std::int64_t, double, double, double h) { return land_only(h) + (g_clean ? 0 : 0.18); });
    }
  record(s);
  if (g_clean) return;
  const fs::path cut = g_folder / s.folder / "ground_nw.tif";
  fs::resize_file(cut, fs::file_size(cut) * 55 / 100);
}

void coast_2014(const Crs& utm, const HeightReference& egm) {
  const HeightReference above = g_clean ? egm : HeightReference::ellipsoid();
  const Survey s{"coast-2014", "Marrowick coast 2014", "2014-05-20", heights_in(above, SurfaceKind::Ground), 14, 0.15};
  sheet(s, "coast", Frame(utm, 676000, 5843000, {5, 5}, 600, 600),
        [](std::int64_t, std::int64_t, double x, double y, double h) {
          return g_clean ? land_only(h)
                         : land_only(h) + marrowick::geoid(x - marrowick::kCentreEast, y - marrowick::kCentreNorth);
        });
  record(s);
}

void sonar_2019(const Crs& utm, const HeightReference& egm) {
  const Survey s{"sonar-2019", "Kessa Inlet sonar 2019", "2019-07-11", heights_in(egm, SurfaceKind::SeaFloor), 19,
                 0.08};
  sheet(s, "kessa", Frame(utm, 677400, 5841500, {2, 2}, 600, 600),
        [](std::int64_t, std::int64_t, double x, double y, double h) {
          // Near the edge noise decides, and leaves small voids.
          return (g_clean ? ground_utm(x, y) : h) > -2.2 ? std::nan("") : h;
        });
  record(s);
}

// A model of shore and sea floor drawn from an old chart: coarse, too high and tilted, and without a gap.
void chart_1998(const Crs& utm, const HeightReference& egm) {
  const Survey s{"chart-1998", "Kessa chart 1998", "1998-06-01", heights_in(egm, SurfaceKind::Unknown), 98, 0.03};
  sheet(s, "seabed", Frame(utm, 677000, 5842000, {8, 8}, 220, 225),
        [](std::int64_t, std::int64_t, double x, double y, double h) {
          return h + 0.6 + 4e-4 * (x - 677700) - 3e-4 * (y - 5841200);
        });
  write_text_file(g_folder / s.folder / "survey.toml", "# To close gaps with; not a survey.\nskip = true\n",
                  {.overwrite = true});
}

void zip(const fs::path& path, const std::string& name, const std::vector<std::uint8_t>& bytes) {
  archive* a = archive_write_new();
  archive_write_set_format_zip(a);
  archive_write_set_options(a, "zip:compression-level=9");
  archive_write_open_filename(a, path.c_str());
  archive_entry* e = archive_entry_new();
  archive_entry_set_pathname(e, name.c_str());
  archive_entry_set_size(e, static_cast<la_int64_t>(bytes.size()));
  archive_entry_set_filetype(e, AE_IFREG);
  archive_entry_set_perm(e, 0644);
  archive_entry_set_mtime(e, 951782400, 0);
  archive_write_header(a, e);
  archive_write_data(a, bytes.data(), bytes.size());
  archive_entry_free(e);
  archive_write_close(a);
  archive_write_free(a);
}

// One arc second, from orbit: two metres of noise, voids where the ground is steep, the sea at zero.
void orbit_tiles() {
  const Transform to_utm(Crs::wgs84(), Crs::parse("EPSG:32725"));
  fs::create_directories(g_folder / "orbit-2000");
  for (int west : {-32, -31}) {
    constexpr std::int64_t kNodes = 3601;
    std::vector<std::uint8_t> bytes(kNodes * kNodes * 2, 0);
    parallel_for(kNodes, {}, [&](std::size_t row) {
      const double lat = -37.0 - static_cast<double>(row) / 3600;
      if (lat > -37.50 || lat < -37.60) return;
      for (std::int64_t c = 0; c < kNodes; ++c) {
        const double lon = west + static_cast<double>(c) / 3600;
        if (lon < -31.06 || lon > -30.94) continue;
        const Point p = to_utm.forward({lon, lat});
        const double h = ground_utm(p.x, p.y);
        if (h <= 0.5) continue;
        const double d = 15, steep = std::hypot(ground_utm(p.x + d, p.y) - ground_utm(p.x - d, p.y),
                                                ground_utm(p.x, p.y + d) - ground_utm(p.x, p.y - d)) /
                                     (2 * d);
        // Both tiles see the same noise on their common border.
        const double z =
            h + 2.0 * normal(static_cast<std::int64_t>(std::llround(lon * 3600)), static_cast<std::int64_t>(row), 99);
        const auto v = static_cast<std::uint16_t>(
            static_cast<std::int16_t>(steep > 0.62 && !g_clean ? -32768 : std::max(1.0, std::round(z))));
        bytes[(row * kNodes + static_cast<std::size_t>(c)) * 2] = static_cast<std::uint8_t>(v >> 8);
        bytes[(row * kNodes + static_cast<std::size_t>(c)) * 2 + 1] = static_cast<std::uint8_t>(v & 255);
      }
    });
    const std::string name = fmt::format("S38W{:03}.hgt", -west);
    zip(g_folder / "orbit-2000" / (name + ".zip"), name, bytes);
  }
  write_text_file(g_folder / "orbit-2000/survey.toml",
                  "name = \"Marrowick from orbit 2000\"\ndate = 2000-02-16\nlicence = \"CC0-1.0\"\n",
                  {.overwrite = true});
}

void study_material(const Crs& utm, const HeightReference& egm) {
  const Ring outline{{677260, 5841720}, {677900, 5841760}, {678160, 5841560}, {678180, 5841010},
                     {677940, 5840890}, {677480, 5840900}, {677240, 5841160}, {677260, 5841720}};
  write_layer({.name = "area",
               .crs = utm,
               .features = {{MultiPolygon{{outline, {}}}, {{"name", std::string("Kessa Inlet footbridge")}}}}},
              g_folder / "area.geojson", {.overwrite = true});
  write_layer({.name = "transect",
               .crs = utm,
               .features = {{LineString{{677560, 5841180}, {677735, 5841330}, {677880, 5841470}},
                             {{"name", std::string("footbridge")}}}}},
              g_folder / "transect.geojson", {.overwrite = true});
  write_layer({.name = "culverts",
               .crs = utm,
               .features = {{LineString{{677420, 5841592}, {677437, 5841571}},
                             {{"name", std::string("Annet culvert")}, {"width_m", 1.2}}}}},
              g_folder / "culverts.geojson", {.overwrite = true});
  write_layer({.name = "ponds",
               .crs = utm,
               .features = {{MultiPolygon{{to_polygon(Bounds{677735, 5840970, 677780, 5841003})}},
                             {{"name", std::string("Old quarry")}}}}},
              g_folder / "ponds.geojson", {.overwrite = true});
  auto place = [](const char* name, const char* others, const char* kind, auto shape, double radius) {
    Feature f{shape, {{"name", std::string(name)}, {"kind", std::string(kind)}}};
    if (*others) f.properties.push_back({"names", std::string(others)});
    if (radius > 0) f.properties.push_back({"radius", radius});
    return f;
  };
  write_layer({.name = "gazetteer",
               .crs = utm,
               .features = {place("Marrowick", "Marrowick Island", "island",
                                  MultiPolygon{to_polygon(Bounds{673500, 5839000, 680200, 5844200})}, 0),
                            place("Kessa Inlet", "the inlet", "inlet", MultiPolygon{{outline, {}}}, 0),
                            place("Kessa Footbridge", "", "bridge", Point{677735, 5841330}, 150.0),
                            place("Annet Water", "the Annet", "stream",
                                  LineString{{677300, 5842000}, {677520, 5841700}, {677640, 5841480}}, 0),
                            place("Tolvane Ridge", "Tolvane Scarp", "ridge", Point{677000, 5842600}, 600.0),
                            place("Kessa Jetty", "", "jetty", Point{678020, 5841180}, 0)}},
              g_folder / "gazetteer.geojson", {.overwrite = true});
  std::string table = "name,x,y,z\n";
  int n = 0;
  for (std::int64_t i = 0; n < 40 && i < 1000; ++i) {
    const double x = 677300 + std::floor(425 * (1 + marrowick::noise(i, 1, 61)) * 100) / 100,
                 y = 5840920 + std::floor(400 * (1 + marrowick::noise(i, 2, 61)) * 100) / 100;
    if (!contains({{outline, {}}}, {x, y}) || ground_utm(x, y) < 1) continue;
    table += fmt::format("C{:02},{:.2f},{:.2f},{:.3f}\n", ++n, x, y, ground_utm(x, y) + 0.015 * normal(i, 3, 61));
  }
  write_text_file(g_folder / "control.csv", table, {.overwrite = true});
  const Survey truth{"reference", "Marrowick truth", "2022-03-14", heights_in(egm, SurfaceKind::Unknown), 1, 0};
  sheet(truth, "truth", Frame(utm, 677230, 5841770, {1, 1}, 960, 890),
        [](std::int64_t, std::int64_t, double, double, double h) { return h; });
  write_text_file(g_folder / "reference/survey.toml",
                  "# The truth that the surveys were drawn from; not a survey.\nskip = true\n", {.overwrite = true});
}

// Points, and what brings the older survey down from the ellipsoid: the height of EGM2008's zero above it.
void points_and_separation(const Crs& utm) {
  marrowick::draw_lidar(g_folder / "lidar-2022");
  write_text_file(g_folder / "lidar-2022/survey.toml",
                  "name = \"Marrowick lidar 2022\"\ndate = 2022-03-14\nlicence = \"CC0-1.0\"\n", {.overwrite = true});
  marrowick::draw_soundings(g_folder / "soundings-2021");
  write_text_file(g_folder / "soundings-2021/survey.toml",
                  "name = \"Kessa shore soundings 2021\"\ndate = 2021-08-03\nlicence = \"CC0-1.0\"\n",
                  {.overwrite = true});
  const Frame f(utm, 675900, 5843100, {100, 100}, 34, 34);
  const Grid down = grid_from_function(
      f,
      [](double x, double y) {
        return std::round(-1000 * marrowick::geoid(x - marrowick::kCentreEast, y - marrowick::kCentreNorth)) / 1000;
      },
      {.kind = QuantityKind::Height,
       .unit = LengthUnit::Metre,
       .unit_known = true,
       .other_unit = {},
       .heights = {},
       .surface = SurfaceKind::Unknown},
      "separation");
  fs::create_directories(g_folder / "separation");
  write_grid(down, g_folder / "separation/ellipsoid_to_egm2008.asc",
             {.overwrite = true, .date = {}, .survey = {}, .run = {}});
  write_text_file(g_folder / "separation/survey.toml",
                  "# What to add to heights above the ellipsoid; not a survey.\nskip = true\n", {.overwrite = true});
}

}  // namespace

int main(int argc, char** argv) {
  const bool only_points = argc == 3 && std::string(argv[1]) == "--points";
  g_clean = argc == 3 && std::string(argv[1]) == "--clean";
  if ((argc != 2 && !only_points && !g_clean) || argv[argc - 1][0] == '-') {
    fmt::print(stderr, "usage: make_demo [--points | --clean] FOLDER\n");
    return 2;
  }
  g_folder = argv[argc - 1];
  try {
    fs::create_directories(g_folder);
    const Crs utm = Crs::parse("EPSG:32725");
    const HeightReference egm = HeightReference::parse("EGM2008");
    if (!g_clean) points_and_separation(utm);
    if (only_points) return 0;
    ground_2022(utm, egm);
    ground_2016(utm, egm);
    coast_2014(utm, egm);
    sonar_2019(utm, egm);
    chart_1998(utm, egm);
    orbit_tiles();
    study_material(utm, egm);
  } catch (const Error& e) {
    fmt::print(stderr, "make_demo: {}\n", e.what());
    return 1;
  }
  return 0;
}
