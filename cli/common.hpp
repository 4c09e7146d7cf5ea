// What every verb shares: options with one meaning, areas and points from text, the statement at the end.
#pragma once
#include <CLI/CLI.hpp>
#include <functional>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/section.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra::cli {

using nlohmann::ordered_json;

struct Common {
  std::string out, area, margin, crs, heights, unit, cell, resample = "auto", threads_text, memory = "512M";
  std::optional<double> void_value;
  int threads = 0;
  bool json = false, dry_run = false, overwrite = false, quiet = false;

  RunOptions run() const;
  OpenOptions open_options() const;
  WriteOptions write_options() const;
};

// The options by name, so that each verb takes those it understands and they mean the same everywhere.
void add_output(CLI::App& verb, Common& c, bool required = true);
void add_reading(CLI::App& verb, Common& c);  // --crs --heights --unit
void add_running(CLI::App& verb, Common& c);  // --threads --memory --json --quiet

Area area_from(const std::string& text);
Point point_from(const std::string& text, const Crs& crs);
// A length; a bare number is taken in `bare` and said so.
Length length_from(const std::string& text, LengthUnit bare, std::vector<std::string>& notes);
Grid open_input(const std::string& path, const Common& c);
std::vector<std::string> expand_inputs(const std::vector<std::string>& given);

// ---- saying what came out

std::string cell_text(const Frame& f);
std::string height_text(const Quantity& q);
std::string range_text(double lowest, double highest, const Quantity& q);
ordered_json info_json(const GridInfo& info);

class Statement {
 public:
  explicit Statement(const Common& c) : common_(c) {}
  void title(const std::string& text);
  void line(const std::string& key, const std::string& text);
  void fact(const std::string& key, ordered_json value) { json_[key] = std::move(value); }
  void note(const std::string& text);
  void written(const WriteReport& r);
  ordered_json& json() { return json_; }
  // Prints it: text, or JSON and nothing else.
  void print() const;

 private:
  const Common& common_;
  std::string text_;
  ordered_json json_ = ordered_json::object();
};

// Progress of the running command: drawn on a terminal, cancelled by an interrupt.
Progress& progress();
void show_progress(bool on);

// Writes a grid with the verb's options and states what came out.
int write_and_state(const Grid& grid, const Common& c, const std::vector<std::string>& notes, bool lineage = false);
void write_picture(const Picture& p, const std::string& path, bool overwrite);

// Each registers its verbs; the callbacks return the exit status through `status`.
void add_look_and_find(CLI::App& app, int& status);
void add_surface_verbs(CLI::App& app, int& status);
void add_product_verbs(CLI::App& app, int& status);
void add_study_verbs(CLI::App& app, int& status);

}  // namespace katoptra::cli
