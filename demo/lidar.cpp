#include "lidar.hpp"

#include <cmath>
#include <fmt/format.h>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/points/select.hpp"

#include "marrowick.hpp"

namespace marrowick {
namespace {

using namespace katoptra;

constexpr double kStep = 1.25;  // between pulses, along and across
constexpr double kLineSpacing = 210, kHalfSwath = 130, kFlyingHeight = 520;
constexpr double kLowerLine = 0.035;      // the second flight line lies this much too low
constexpr double kFirstTime = 331286400;  // 2022-03-14 in standard GPS time, a little after midnight
enum Class {
  kUnassigned = 1,
  kGround = 2,
  kLowPlants = 3,
  kTrees = 5,
  kBuilding = 6,
  kLowNoise = 7,
  kWater = 9,
  kWire = 14,
  kHighNoise = 18
};

struct Echo {
  double z;
  int classification, intensity;
};

// What a pulse meets on its way down, from above.
std::vector<Echo> echoes(double x, double y, std::int64_t i, std::int64_t j) {
  std::vector<Echo> out;
  const double bare = ground(x, y), chance = noise(i, j, 81);
  const double error = 0.03 * normal(i, j, 82);
  if (const double w = wire(x, y); !std::isnan(w)) out.push_back({w + error, kWire, 60});
  if (const double r = roof(x, y); !std::isnan(r)) {
    out.push_back({r + error, kBuilding, 900});
    return out;
  }
  if (bare < 0) {
    // The sea swallows most pulses.
    if (chance > 0.72) out.push_back({0.02 * normal(i, j, 83), kWater, 30});
    return out;
  }
  if (const double top = canopy(x, y); !std::isnan(top)) {
    out.push_back({top - 0.4 * std::abs(noise(i, j, 84)) + error, kTrees, 220});
    if (noise(i, j, 85) > 0.3) out.push_back({bare + (top - bare) * (0.35 + 0.2 * noise(i, j, 86)), kTrees, 120});
    if (noise(i, j, 87) > 0.1) return out;
  } else if (noise(static_cast<std::int64_t>(x / 6), static_cast<std::int64_t>(y / 6), 88) > 0.75 && chance > 0.2) {
    // Scrub, half a metre to a metre and a half.
    out.push_back({bare + 0.5 + 0.5 * (1 + noise(i, j, 89)), kLowPlants, 260});
    if (noise(i, j, 90) > 0) return out;
  }
  out.push_back({bare + error, kGround, 480 + static_cast<int>(60 * noise(i, j, 91))});
  return out;
}

}  // namespace

PointInfo lidar_info() {
  PointInfo info;
  info.name = "lidar 2022";
  info.crs = Crs::parse("EPSG:32725");
  info.quantity.heights = HeightReference::parse("EGM2008");
  info.quantity.unit_known = true;
  PointLattice lattice;
  lattice.step[0] = lattice.step[1] = lattice.step[2] = 0.01;
  lattice.origin[0] = 677000;
  lattice.origin[1] = 5841000;
  info.lattice = lattice;
  info.record_format = 6;
  info.time = PointTime::Standard;
  info.sources = {{.name = "lidar 2022",
                   .survey = "Marrowick lidar 2022",
                   .date = "2022-03-14",
                   .date_guessed = false,
                   .cell = {},
                   .treatment = {}}};
  return info;
}

PointBatch lidar_points() {
  PointBatch b;
  const double east = kSheetsWest + 2 * kSheetEdge, south = kSheetsNorth - 2 * kSheetEdge;
  double time = kFirstTime;
  for (int line = 0; line < 5; ++line) {
    const double middle = kSheetsNorth - 80 - line * kLineSpacing;
    const auto scans = static_cast<std::int64_t>((east - kSheetsWest) / kStep);
    for (std::int64_t s = 0; s < scans; ++s) {
      const bool forward = s % 2 == 0;
      const auto across = static_cast<std::int64_t>(kHalfSwath / kStep);
      for (std::int64_t k = -across; k <= across; ++k) {
        const std::int64_t a = forward ? k : -k, key = s + line * 100000;
        time += 4e-6;
        const double e = kSheetsWest + (static_cast<double>(s) + 0.5 + 0.4 * noise(key, a, 92)) * kStep,
                     n = middle + (static_cast<double>(a) + 0.4 * noise(key, a, 93)) * kStep;
        if (n >= kSheetsNorth || n < south || e < kSheetsWest || e >= east) continue;
        std::vector<Echo> found = echoes(e - kCentreEast, n - kCentreNorth, key, a);
        const double odd = noise(key, a, 94);
        if (odd > 0.9996) found.insert(found.begin(), {60 + 40 * noise(key, a, 95), kHighNoise, 5});
        if (odd < -0.9997) found.push_back({-18 - 6 * noise(key, a, 96), kLowNoise, 5});
        for (std::size_t i = 0; i < found.size(); ++i) {
          b.x.push_back(std::round(e * 100) / 100);
          b.y.push_back(std::round(n * 100) / 100);
          b.z.push_back(std::round((found[i].z - (line == 1 ? kLowerLine : 0)) * 100) / 100);
          b.intensity.push_back(static_cast<std::uint16_t>(found[i].intensity));
          b.return_number.push_back(static_cast<std::uint8_t>(i + 1));
          b.return_count.push_back(static_cast<std::uint8_t>(found.size()));
          b.classification.push_back(static_cast<std::uint8_t>(found[i].classification));
          b.flags.push_back(
              static_cast<std::uint8_t>((std::abs(static_cast<double>(a) * kStep) > kLineSpacing / 2 ? kOverlap : 0) |
                                        (forward ? kScanForward : 0) | (k == across ? kEdgeOfLine : 0)));
          b.user.push_back(0);
          b.angle.push_back(static_cast<std::int16_t>(
              std::lround(std::atan(static_cast<double>(a) * kStep / kFlyingHeight) * 57.29578 / kAngleStep)));
          b.source.push_back(static_cast<std::uint16_t>(101 + line));
          b.time.push_back(std::round(time * 1e6) / 1e6);
        }
      }
      time += 2e-4;
    }
    time += 240;
  }
  return b;
}

void draw_lidar(const std::filesystem::path& folder) {
  std::filesystem::create_directories(folder);
  const PointCloud all = points_from_batch(lidar_points(), lidar_info());
  for (int col = 0; col < 2; ++col)
    for (int row = 0; row < 2; ++row) {
      const double west = kSheetsWest + col * kSheetEdge, north = kSheetsNorth - row * kSheetEdge;
      // A sheet holds its western and northern edge, not the others.
      const PointSelection inside{.area = nullptr,
                                  .box = {west, north - kSheetEdge + 0.001, west + kSheetEdge - 0.001, north}};
      PointCloud sheet = select(all, inside);
      const bool raw = col == 1 && row == 1;
      if (raw) {
        PointBatch b, part;
        for (std::size_t i = 0; i < sheet.parts(); ++i) {
          sheet.read(i, PointFields::All, part);
          b.append(part);
        }
        std::fill(b.classification.begin(), b.classification.end(), std::uint8_t{kUnassigned});
        sheet = points_from_batch(std::move(b), lidar_info());
      }
      write_points(sheet, folder / fmt::format("lidar_{}{}.laz", "ns"[row], "we"[col]), {.overwrite = true, .run = {}});
    }
}

void draw_soundings(const std::filesystem::path& folder) {
  std::filesystem::create_directories(folder);
  // Tracks along the inlet, a boat's width apart, wherever there is between 0.4 and 6 m of water.
  std::string text =
      "# soundings of 2021-08-03, depths in metres below Marrowick chart datum, positive down\nid;east;north;depth\n";
  int id = 0;
  for (int track = 0; track < 60; ++track)
    for (int k = 0; k < 240; ++k) {
      const double e = 677420 + 3.4 * k + 1.2 * noise(k, track, 101),
                   n = 5840930 + 9.5 * track + 2 * noise(k, track, 102) + 0.35 * 3.4 * (k % 7);
      const double bed = ground_utm(e, n);
      if (bed > -0.4 || bed < -6) continue;
      const double depth = -(bed + kChartDatum) + 0.06 * normal(k, track, 103);
      if (depth < 0.1) continue;
      text += fmt::format("{};{:.2f};{:.2f};{:.2f}\n", ++id, e, n, depth);
    }
  write_text_file(folder / "shore.csv", text, {.overwrite = true});
  write_text_file(folder / "shore.csv.json",
                  "{\"crs\": \"EPSG:32725\", \"unit\": \"m\", \"date\": \"2021-08-03\", \"survey\": \"Kessa shore "
                  "soundings 2021\"}\n",
                  {.overwrite = true});
}

}  // namespace marrowick
