#include "katoptra/formats/look.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/terrain/sample.hpp"

#include "base/text.hpp"
#include "check/detectors/census.hpp"
#include "formats/bytes/located.hpp"
#include "formats/las/las_source.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using Suspicions = std::vector<Suspicion>;

constexpr double kFeetInMetre = 1 / 0.3048;
// Nothing on land is higher than this in metres.
constexpr double kHighestMetres = 8900;

bool holds_heights(const GridInfo& info) { return info.quantity.kind == QuantityKind::Height; }

// ------------------------------------------------------------------------------------------- a file by its own facts

void judge_references(const GridFile& file, const std::vector<CrsProposal>& proposals, Suspicions& out) {
  const GridInfo& info = file.grid.info();
  const Crs& crs = info.frame.crs();
  if (!crs) {
    std::string advice = "tell it with --crs";
    for (std::size_t i = 0; i < proposals.size() && i < 3; ++i)
      advice += fmt::format("{} {} ({})", i ? ", or" : "; likely", proposals[i].crs.label(), proposals[i].why);
    out.push_back({"no-crs", "no coordinate reference system: nobody can say where it lies", advice});
  }
  if (!holds_heights(info)) return;
  if (!info.quantity.heights.known())
    out.push_back({"no-reference", "does not say from where heights are counted", "tell it with --heights"});
  if (!info.quantity.unit_known) {
    const bool feet = crs && !crs.is_geographic() && crs.unit_name().starts_with("ft");
    out.push_back(
        {feet ? "feet" : "no-unit",
         feet ? fmt::format("does not say in which unit heights are, and its coordinates are in {}: heights may "
                            "be, too",
                            crs.unit_name())
              : std::string("does not say in which unit heights are; metres are taken"),
         "tell it with --unit"});
  }
}

void judge_cells(const GridFile& file, Suspicions& out) {
  const Frame& f = file.grid.frame();
  if (!f.crs()) return;
  const GroundSpacing s = ground_spacing(f);
  if (f.crs().is_mercator()) {
    const double stretch = f.cell().x * f.crs().unit_factor() / s.x.metres();
    out.push_back(
        {"mercator",
         fmt::format("a Mercator projection: lengths in its coordinates are {:.2f} times those on the ground", stretch),
         "not for measuring: reproject it, for instance with --crs utm"});
  }
  const double ratio = s.x / s.y;
  if (ratio < 1.02 && ratio > 0.98) return;
  out.push_back({"oblong",
                 fmt::format("cells are not square on the ground ({:.4g} x {:.4g} m)", s.x.metres(), s.y.metres()),
                 f.crs().is_geographic() ? "a grid in degrees: reproject it before counting cells"
                                         : "reproject it to square cells"});
}

// Values that stand for voids in many files, from either end of the range.
std::optional<double> undeclared_void(const GridInfo& info, const Statistics& s) {
  static constexpr std::array kLow{-32768.0, -32767.0, -9999.0, -99999.0, -999.0, -9999999.0, -2147483648.0};
  static constexpr std::array kHigh{32767.0, 65535.0, 9999.0, 99999.0, 999999.0, 1000000.0, 2147483647.0};
  auto declared = [&](double v) { return info.file_void && *info.file_void == v; };
  for (double v : kLow)
    if (s.lowest == v && !declared(v)) return v;
  // At the upper end only where the values would otherwise end far below.
  for (double v : kHigh)
    if (s.highest == v && !declared(v) && (s.percentiles[4] < v / 2 || v >= 32767)) return v;
  // Zero and whatever else stands far from all that is there, as check has it.
  if (const auto v =
          undeclared_void_in(s, cells_at_end(s, true), cells_at_end(s, false), metres_per(info.quantity.unit));
      v && !declared(*v))
    return v;
  return std::nullopt;
}

void judge_values(const GridFile& file, const Statistics& s, Suspicions& out) {
  const GridInfo& info = file.grid.info();
  if (s.cells == s.voids) {
    out.push_back({"empty", "holds nothing but voids", "get the tile beside it"});
    return;
  }
  if (!holds_heights(info)) return;
  const auto hole = undeclared_void(info, s);
  if (hole)
    out.push_back({"undeclared-void",
                   fmt::format("its {} value is {:g}: a void value that is not declared?",
                               s.lowest == *hole ? "lowest" : "highest", *hole),
                   fmt::format("tell it with --from-void {:g}", *hole)});
  if (bytes_per_sample(info.type) == 1)
    out.push_back(
        {"eight-bit",
         fmt::format("values from {:g} to {:g} in 8 bits: perhaps a picture of heights, stretched to be seen, and no "
                     "heights",
                     s.lowest, s.highest),
         "get the heights it was made from"});
  const double high = hole && s.highest == *hole ? s.percentiles[6] : s.highest;
  if (info.quantity.unit == LengthUnit::Metre && high > kHighestMetres)
    out.push_back({"feet", fmt::format("its highest value, {:.6g}, is higher than any land in metres: feet?", high),
                   "tell it with --from-unit ft or ftUS"});
  const std::string words = lower_case(file.facts.description + " " + file.facts.band + " " + info.name);
  const bool wet = info.quantity.surface == SurfaceKind::SeaFloor || words.find("depth") != words.npos ||
                   words.find("bathy") != words.npos;
  if (wet && s.percentiles[2] > 0)
    out.push_back({"depth-sign", "is of a sea floor, and most values are above zero: depths, positive down?",
                   "tell it with --depths"});
}

// ---------------------------------------------------------------------------------------------- beside its neighbours

struct Neighbour {
  std::string name;
  Grid grid;
  bool pixel_is_point = false;
};

// How far two lattices of the same cell are apart, as parts of a cell from -0.5 to 0.5.
std::optional<std::pair<double, double>> lattice_offset(const Frame& a, const Frame& b) {
  if (!a.crs() || !b.crs() || !a.crs().same_place(b.crs())) return std::nullopt;
  if (std::abs(a.cell().x / b.cell().x - 1) > 1e-6 || std::abs(a.cell().y / b.cell().y - 1) > 1e-6) return std::nullopt;
  const double x = (b.west() - a.west()) / a.cell().x, y = (b.north() - a.north()) / a.cell().y;
  return std::pair{x - std::round(x), y - std::round(y)};
}

void judge_lattice(const GridFile& file, const Neighbour& n, Suspicions& out) {
  const auto off = lattice_offset(file.grid.frame(), n.grid.frame());
  if (!off) return;
  auto half = [](double d) { return std::abs(std::abs(d) - 0.5) < 0.02; };
  if (!half(off->first) && !half(off->second)) return;
  if (std::any_of(out.begin(), out.end(), [](const Suspicion& s) { return s.code == "half-cell"; })) return;
  std::string why;
  if (file.facts.pixel_is_point != n.pixel_is_point)
    why = fmt::format(": {} says that its samples are at nodes, {} that they fill cells",
                      file.facts.pixel_is_point ? "it" : "that one", file.facts.pixel_is_point ? "that one" : "it");
  out.push_back(
      {"half-cell", fmt::format("lies half a cell off the lattice of {}{}", n.name, why),
       "find out which of them is right: one of the two is misplaced by half a cell, or they must be resampled"});
}

// Values of both at up to a few hundred places that they share.
std::vector<std::pair<double, double>> common_values(const Grid& a, const Grid& b) {
  std::vector<std::pair<double, double>> out;
  if (!a.frame().crs() || !b.frame().crs()) return out;
  const Transform there(a.frame().crs(), b.frame().crs());
  const Bounds box = transformed(a.frame().bounds(), there), other = b.frame().bounds();
  if (!box.intersects(other)) return out;
  constexpr int kAcross = 12;
  const Frame& f = a.frame();
  for (int r = 0; r < kAcross; ++r)
    for (int c = 0; c < kAcross; ++c) {
      const auto col = static_cast<std::int64_t>((c + 0.5) / kAcross * static_cast<double>(f.cols())),
                 row = static_cast<std::int64_t>((r + 0.5) / kAcross * static_cast<double>(f.rows()));
      const Point p = there.forward(f.centre(static_cast<double>(col), static_cast<double>(row)));
      if (std::isnan(p.x) || !other.contains(p)) continue;
      const auto bc = static_cast<std::int64_t>(std::floor(b.frame().col_at(b.frame().told_here(p.x)))),
                 br = static_cast<std::int64_t>(std::floor(b.frame().row_at(p.y)));
      const float x = a.at(col, row), y = b.at(bc, br);
      if (!std::isnan(x) && !std::isnan(y)) out.emplace_back(x, y);
    }
  return out;
}

double median(std::vector<double> v) {
  std::nth_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2), v.end());
  return v[v.size() / 2];
}

void judge_heights_beside(const GridFile& file, const Neighbour& n, Suspicions& out) {
  if (!holds_heights(file.grid.info()) || !holds_heights(n.grid.info())) return;
  std::vector<double> ratios, sums, differences;
  for (const auto& [a, b] : common_values(file.grid, n.grid)) {
    const double mine = a * metres_per(file.grid.quantity().unit), other = b * metres_per(n.grid.quantity().unit);
    if (std::abs(other) > 1) ratios.push_back(mine / other);
    sums.push_back(std::abs(mine + other));
    differences.push_back(std::abs(mine - other));
  }
  constexpr std::size_t kEnough = 12;
  if (ratios.size() < kEnough) return;
  const double ratio = median(ratios);
  for (const auto& [factor, code] : {std::pair{kFeetInMetre, "feet"}, std::pair{1 / kFeetInMetre, "metres"}})
    if (std::abs(ratio / factor - 1) < 0.03)
      out.push_back({"feet",
                     fmt::format("its heights are {:.3f} times those of {}: {} taken for {}?", ratio, n.name, code,
                                 symbol(file.grid.quantity().unit)),
                     code == std::string("feet") ? "tell it with --from-unit ft or ftUS"
                                                 : "its own statement of the unit is wrong"});
  if (std::abs(ratio + 1) < 0.2 && median(sums) < median(differences) / 4)
    out.push_back({"depth-sign",
                   fmt::format("its values are those of {} turned upside down: depths, positive down?", n.name),
                   "tell it with --depths"});
}

// -------------------------------------------------------------------------------------------------- what CRS it may be

bool near(const Bounds& a, const Bounds& b) {
  const double reach = 2 * std::max({a.width(), a.height(), b.width(), b.height()});
  return a.intersects(b.grown(reach));
}

std::vector<CrsProposal> proposals_for(const GridFile& file, const std::vector<Neighbour>& neighbours,
                                       const Area* area) {
  std::vector<CrsProposal> out;
  const Frame& f = file.grid.frame();
  const Bounds box = f.bounds();
  auto propose = [&](const Crs& crs, const std::string& why) {
    for (const CrsProposal& p : out)
      if (p.crs.same_place(crs)) return;
    out.push_back({crs, why});
  };
  for (const Neighbour& n : neighbours) {
    const Frame& other = n.grid.frame();
    if (!other.crs() || !near(box, other.bounds())) continue;
    const double cell = f.cell().x / other.cell().x;
    if (cell > 0.01 && cell < 100) propose(other.crs(), fmt::format("then it lies beside {}", n.name));
  }
  if (area) {
    const Point middle = area->in(Crs::wgs84()).bounds().centre();
    std::vector<Crs> tries{area->utm(), Crs::wgs84(), Crs::parse("EPSG:3857"), area->crs()};
    for (double east : {-6.0, 6.0})
      if (std::abs(middle.y) < 84) tries.push_back(Crs::utm_for(middle.x + east, middle.y));
    for (const Crs& crs : tries)
      if (area->in(crs).bounds().intersects(box)) propose(crs, "then it lies in the area");
  }
  if (out.empty() && box.west >= -181 && box.east <= 361 && box.south >= -91 && box.north <= 91 && f.cell().x < 1)
    propose(Crs::wgs84(), "its coordinates look like degrees");
  return out;
}

std::vector<Neighbour> in_its_folder(const fs::path& path) {
  std::vector<Neighbour> out;
  constexpr std::size_t kMost = 32;
  std::error_code ec;
  std::vector<fs::path> files;
  const fs::path folder = path.parent_path().empty() ? "." : path.parent_path();
  for (auto it = fs::directory_iterator(folder, ec); !ec && it != fs::directory_iterator(); it.increment(ec))
    if (it->is_regular_file(ec) && it->path().filename() != path.filename()) files.push_back(it->path());
  std::sort(files.begin(), files.end());
  for (const fs::path& f : files) {
    if (out.size() >= kMost) break;
    if (!looks_like_grid(f)) continue;
    try {
      const GridFile g = open_grid_file(f);
      out.push_back({f.filename().string(), g.grid, g.facts.pixel_is_point});
    } catch (const Error&) {
      // It is not this file's fault.
    }
  }
  return out;
}

// ---------------------------------------------------------------------------------------------------------- in all

std::optional<XyzFacts> soundings_in(const fs::path& path, const OpenOptions& o) {
  try {
    const auto bytes = open_file(path);
    XyzFacts f = look_at_xyz(*bytes, {.columns = o.columns, .delimiter = o.delimiter, .depths = o.depths});
    if (f.lattice) return std::nullopt;
    if (!f.crs && o.crs) f.crs = *o.crs;
    return f;
  } catch (const Error&) {
    return std::nullopt;
  }
}

bool is_points(const fs::path& path) {
  try {
    return las::is_las(locate(path).bytes->head(4));
  } catch (const Error&) {
    return false;
  }
}

// Points are taken as far as they are whole: what is wrong with them is said, not refused.
void open_points_of(Looked& l, const LookOptions& options) {
  const auto take = [&](bool salvage) {
    l.points = open_point_file(l.path, {.open = options.open, .area = nullptr, .spacing = {}, .salvage = salvage});
    for (const std::string& p : l.points->facts.problems) l.suspicious.push_back({"damaged", p, "fetch it again"});
    if (options.values) l.summary = summarise(l.points->cloud, options.run);
  };
  try {
    take(false);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::BadFile) throw;
    l.suspicious.clear();
    take(true);
    if (l.suspicious.empty())
      l.suspicious.push_back({"damaged", e.problem(), "fetch it again: what is told of its points may be wrong"});
  }
}

void judge_points(Looked& l) {
  const PointInfo& info = l.points->cloud.info();
  const PointFileFacts& f = l.points->facts;
  auto say = [&](const char* code, const std::string& message, const std::string& advice) {
    l.suspicious.push_back({code, message, advice});
  };
  if (!info.crs)
    say("no-crs", "no coordinate reference system: nobody can say where it lies",
        "tell it to grid and points with --from-crs");
  if (!info.quantity.heights.known())
    say("no-reference", "does not say from where heights are counted", "tell it with --heights");
  if (!info.quantity.unit_known) {
    const bool feet = info.crs && !info.crs.is_geographic() && info.crs.unit_name().starts_with("ft");
    say(feet ? "feet" : "no-unit",
        feet ? fmt::format("does not say in which unit heights are, and its coordinates are in {}: heights may be, too",
                           info.crs.unit_name())
             : std::string("does not say in which unit heights are; metres are taken"),
        "tell it with --unit");
  }
  if (!l.summary) return;
  const PointSummary& s = *l.summary;
  if (s.points != f.declared)
    say("points-count", fmt::format("its header tells of {} points, and {} could be read", f.declared, s.points),
        "fetch it again");
  if (s.outside_declared > 0)
    say("points-bounds", fmt::format("{} points lie outside of the box in its header", s.outside_declared),
        "write it anew with points, which makes a true header");
  const bool lies_wide =
      s.points > 0 && !info.bounds.empty() &&
      (info.bounds.width() > 2 * s.bounds.width() + 1 || info.bounds.height() > 2 * s.bounds.height() + 1);
  if (lies_wide)
    say("points-bounds", "the box in its header is more than twice as large as that of its points",
        "write it anew with points, which makes a true header");
  std::uint64_t off = 0;
  for (std::size_t r = 1; r < 16 && r <= f.by_return.size() && s.points == f.declared; ++r)
    off += f.by_return[r - 1] != s.by_return[r];
  if (off > 0)
    say("points-returns", "the numbers of points by return in its header are not those of its points",
        "nothing here uses them");
  if (s.points > 0 && s.by_class[0] + s.by_class[1] + s.by_class[7] + s.by_class[18] == s.points)
    say("unclassified", "no point is classified", "find the ground with points --find-ground");
  if (f.date_guessed)
    say("no-date", "no date inside: the file time is taken for it", "name it in a survey.toml beside it");
}

Looked open_one(const fs::path& path, const LookOptions& options) {
  Looked l{.path = path};
  if (is_points(path)) {
    open_points_of(l, options);
    return l;
  }
  try {
    l.file = open_grid_file(path, options.open);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::Unsupported) throw;
    l.soundings = soundings_in(path, options.open);
    if (!l.soundings) throw;
    return l;
  }
  for (const std::string& p : l.file->facts.problems) l.suspicious.push_back({"damaged", p, "fetch it again"});
  if (!options.values) return l;
  try {
    l.statistics = statistics(l.file->grid, options.run);
    if (l.file->grid.carries_uncertainty()) l.uncertainty = statistics(uncertainty_of(l.file->grid), options.run);
  } catch (const Error& e) {
    if (e.code() == ErrorCode::Cancelled) throw;
    if (l.suspicious.empty()) l.suspicious.push_back({"damaged", e.problem(), e.advice()});
  }
  return l;
}

void judge(Looked& l, const std::vector<Neighbour>& given, const LookOptions& options) {
  if (l.points) {
    judge_points(l);
    return;
  }
  if (l.soundings) {
    if (!l.soundings->crs)
      l.suspicious.push_back(
          {"no-crs", "points in text say nothing of their CRS", "tell it to grid and points with --from-crs"});
    if (!l.soundings->depths && l.soundings->lowest > 0)
      l.suspicious.push_back(
          {"depth-sign", "all values are above zero: depths, positive down?", "tell it with --depths"});
    return;
  }
  const GridFile& file = *l.file;
  if (!file.grid.frame().crs()) {
    std::vector<Neighbour> around = given;
    for (Neighbour& n : in_its_folder(l.path)) around.push_back(std::move(n));
    l.proposals = proposals_for(file, around, options.area);
  }
  judge_references(file, l.proposals, l.suspicious);
  judge_cells(file, l.suspicious);
  if (l.statistics) judge_values(file, *l.statistics, l.suspicious);
  for (const Neighbour& n : given) {
    judge_lattice(file, n, l.suspicious);
    try {
      if (options.values) judge_heights_beside(file, n, l.suspicious);
    } catch (const Error&) {
      // Damage of either was said already.
    }
  }
  if (file.facts.date_guessed)
    l.suspicious.push_back(
        {"no-date", "no date inside: the file time is taken for it", "name it in a survey.toml beside it"});
}

}  // namespace

std::vector<Looked> look_at(const std::vector<fs::path>& files, const LookOptions& options) {
  std::vector<Looked> out;
  for (const fs::path& path : files) out.push_back(open_one(path, options));
  for (std::size_t i = 0; i < out.size(); ++i) {
    std::vector<Neighbour> others;
    for (std::size_t j = 0; j < out.size(); ++j)
      if (j != i && out[j].file)
        others.push_back({out[j].path.filename().string(), out[j].file->grid, out[j].file->facts.pixel_is_point});
    judge(out[i], others, options);
  }
  return out;
}

}  // namespace katoptra
