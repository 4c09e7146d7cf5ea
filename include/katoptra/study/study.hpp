// A whole study as one job: area, sources, frame, steps and products in a TOML file; a surface that can be trusted, its
// products, one report and one record as the result. docs/study.md describes the file.
//
//   Study s = read_study("study.toml");
//   StudyPlan p = plan_study(s);                  // headers only, also of remote tiles
//   StudyRun r = run_study(s, {.folder = "out"});
//
// Steps: find the tiles that cover the area (and bring those that are remote), bring them to one level where that is
// asked for, join them (mosaic), close voids, move to the frame, cut to the area, check, compare with control points
// and a reference surface, make the products, write report.html and run.json.
#pragma once
#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "katoptra/catalogue/find.hpp"
#include "katoptra/check/check.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/check/control.hpp"
#include "katoptra/check/levelling.hpp"
#include "katoptra/check/zones.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/study/map_style.hpp"
#include "katoptra/study/tables.hpp"
#include "katoptra/surface/correct.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/products.hpp"
#include "katoptra/terrain/solid.hpp"
#include "katoptra/terrain/spot_heights.hpp"
#include "katoptra/water/flat_water.hpp"

namespace katoptra {

struct StudySource {
  // Where its tiles are looked up: a folder, a catalogue file, a STAC document or a service (read_catalogue).
  std::string in;
  std::string survey;      // only surveys with this in their name
  std::optional<Crs> crs;  // for tiles that do not say
  std::optional<HeightReference> heights;
  std::optional<LengthUnit> unit;
  std::optional<double> void_value;  // a value that stands for voids and is not declared
  // How sure its heights are, where its files and the record of its survey do not say.
  StatedUncertainty uncertainty;
  // Added to its heights, which are above the study's reference then.
  HeightShift shift;
  // A mistake that was found and is taken out, before anything else is done to its heights.
  Correction correction;
  bool spikes = false;  // its spikes become voids
};

// Points that become a surface of their own, which then is one of the tiles.
struct StudyPoints {
  std::string name;  // for the lineage: the folder or file as it is written
  std::vector<std::filesystem::path> files;
  std::string survey, date;  // of their record; empty: what the files say
  OpenOptions open;
  // What is stated of the surface, or that it shall be judged by the points themselves (with_point_uncertainty).
  StatedUncertainty uncertainty;
  bool own_uncertainty = false;
  HeightShift shift;         // as for sources
  std::vector<int> classes;  // empty: ground where there is any, else all but noise
  bool find_ground = false;
  std::optional<Length> water;  // with that: the level of open water
  PointGridding gridding;
};

// Surveys that are brought to one level before they are joined.
struct StudyLevel {
  LevelFit fit = LevelFit::Offsets;
  std::vector<std::string> hold;  // surveys or tiles that are right
  bool by_control = false;        // the study's control points are right, too
  bool each_tile = false;
};

// Water that is laid flat, before voids are closed.
struct StudyWater {
  std::filesystem::path file;  // its shapes; empty where it is only found
  WaterKind kind = WaterKind::Unknown;
  bool find = false;
  std::optional<Length> sea, above;
  std::optional<double> smallest_island;  // square metres
};

struct StudyProduct {
  // One of products() (terrain/products.hpp) or water_products() (water/water_products.hpp), or contours, spots,
  // section, map, picture, solid, volumes.
  std::string kind;
  std::string file;  // name in the folder of the run
  std::string title;
  std::optional<Length> interval;    // contours; map: contours drawn on it
  std::optional<LengthUnit> unit;    // contours: that levels are in, if not that of the surface
  Settings settings;                 // of products() or water_products()
  double exaggeration = 1.5;         // map: of the shading under the colours
  std::filesystem::path line;        // section; map: drawn on it
  bool tiles = false, area = false;  // map: draw footprints, the area
  bool uncertainty = false;          // map, picture: of how sure the surface is instead of itself
  std::vector<Length> levels;        // volumes: above and below them
  std::vector<std::string> layers;  // map: files of products before it that are drawn: streams, basins, depressions ...
  ContourOptions contour;           // contours: all but interval and run; `bands`: areas instead of lines
  bool bands = false, depths = false;       // `depths`: levels were given as depths
  bool zones = false;                       // contours: where lines may lie, instead of lines
  SpotOptions spot;                         // spots; of a map those drawn on it, where its radius is not zero
  std::filesystem::path across;             // section: instead of a line, the centre line of cross sections
  Length every, width;                      // with that
  std::vector<std::filesystem::path> with;  // section: other surfaces in the same graph
  Length stations;                          // section: of the table below its graph
  std::string page;                         // map: of paper
  double scale = 0;                         // map: on that
  bool grid_lines = false;                  // map
  MapStyle style;                           // map, picture: from a file
  StyleLayer land{.kind = "land"};          // the same: ramp, classes, shore, light
  SolidOptions solid;
};

struct Study {
  std::string title;
  bool pages = true;                   // view.html and coverage.html beside the report
  std::filesystem::path file, folder;  // where it was read from
  std::string text;                    // as it was read
  Area area;
  Length margin;
  std::vector<StudySource> sources;
  std::vector<StudyPoints> points;
  std::string crs;  // "utm", a code, or empty: that of the finest tile
  std::optional<CellEdge> cell;
  std::optional<CellEdge> sheets;  // its grids are sheets of this size (study/sheets.hpp)
  HeightReference heights;  // unknown: that of the preferred tile; tiles that cannot be brought there are left out
  std::optional<LengthUnit> unit;
  std::optional<StudyLevel> level;
  MosaicOptions mosaic;
  // Tiles that add no new footprint are joined too: they show through the voids of those before them, which a footprint
  // does not tell.
  bool all_tiles = true;
  std::optional<StudyWater> water;
  bool fill = true;
  FillOptions fill_options;
  std::filesystem::path fill_second;  // the file of its second surface
  std::optional<Layer> fill_streams;  // whose beds run through voids
  Resampling resampling = Resampling::Automatic;
  Thresholds thresholds;          // of every check
  std::filesystem::path streams;  // lines along which water must not run uphill
  std::filesystem::path control;
  std::optional<Crs> control_crs;
  std::optional<HeightReference> control_heights;
  std::optional<LengthUnit> control_unit;
  Length control_error;
  std::filesystem::path reference;
  std::vector<StudyProduct> products;
};

// BadFile names the line or the key; BadArgument for values that make no sense; unknown keys are refused.
// `catalogue`: looked up instead of what the file names under [catalogue].
Study read_study(const std::filesystem::path& path, const std::string& catalogue = {});
// The same from a text that belongs to a file of that name, whether or not it is there.
Study read_study_text(std::string text, const std::filesystem::path& path, const std::string& catalogue = {});
// The text with one thing changed: "frame.cell=2m", "product.0.interval=5 m". BadArgument when it names no place.
std::string with_setting(const std::string& text, const std::string& setting);

// What a run left behind (run.json), for repeating it.
struct StudyRecord {
  std::filesystem::path folder;      // of the run
  std::filesystem::path study_file;  // where the study was read from
  std::string study_text;
  struct Input {
    std::filesystem::path path;
    std::string sha256;
  };
  std::vector<Input> inputs;
};
// BadFile when it is none.
StudyRecord read_record_of_run(const std::filesystem::path& run_json);
// Which of its inputs are no longer what they were: "sheet_b1.tif: changed", "sheet_b2.tif: gone".
std::vector<std::string> changed_inputs(const StudyRecord& record);

struct StudyPlan {
  Shortlist shortlist;
  std::vector<std::string> left_out;            // tiles and why
  std::map<std::filesystem::path, Grid> tiles;  // those that are kept, with their references
  std::uint64_t fetched = 0;                    // bytes that were brought for it
  std::optional<Levelling> levelling;           // where the study asks for it and it was measured
  Grid surface;                                 // lazy, filling not yet included
  Frame frame;
  std::int64_t cells = 0;
  double bytes = 0;                // of the surface, before compression
  std::vector<std::string> steps;  // in words
};
struct PlanOptions {
  std::set<std::string> hosts;  // whose files may be used beside those of the catalogue's own host
  bool have_key = false;        // tiles that need a key are used
  std::filesystem::path cache;  // what is known of folders; empty: kept nowhere
  std::filesystem::path tiles;  // remote tiles are brought here first; empty: they are read where they are
  bool measure = true;          // levels are measured, which reads cells; else that step is only listed
  RunOptions run;               // its progress must live as long as the plan: points are gridded when they are read
};
StudyPlan plan_study(const Study& study, const PlanOptions& options = {});

struct StepTime {
  std::string step;
  double seconds = 0;
};

struct StudyRun {
  std::filesystem::path folder, report, record;
  std::filesystem::path view, coverage;  // pages of the surface and of the tiles; empty where none are wanted
  StudyPlan plan;
  WriteReport surface;
  std::vector<LaidBody> water;  // without their shapes, which surface.water.gpkg has
  FillReport fill;
  CheckReport check;
  std::vector<Finding> source_findings;
  std::optional<ControlReport> control;
  std::optional<Comparison> reference;  // the surface less the reference, by the way its cells came about, too
  std::vector<std::pair<std::string, std::vector<LevelVolumes>>> volumes;  // by the titles of their products
  std::vector<std::filesystem::path> products;
  std::vector<StepTime> times;
  std::vector<std::string> failures;  // steps after the surface that failed; surface, record and report are kept
  std::vector<std::string> kept;      // steps that were not made again, for nothing they are made from has changed
};

struct StudyOptions {
  std::filesystem::path folder;  // made when it is not there; a run that was stopped in it is gone on with
  bool overwrite = false;
  std::filesystem::path earlier;  // the folder of a run whose steps are taken over where nothing has changed
  std::set<std::string> hosts;    // as in PlanOptions
  bool have_key = false;
  std::filesystem::path cache;
  RunOptions run;  // its progress must live as long as the plan that comes back
  std::function<void(const std::string&)> say;  // one line at the beginning of each step
};
StudyRun run_study(const Study& study, const StudyOptions& options);

}  // namespace katoptra
