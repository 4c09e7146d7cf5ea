// --sheets: a grid as many files of a stated size, by one run or by several that make a part each.
#include "katoptra/study/sheets.hpp"

#include <chrono>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <set>
#include <tuple>

#include "katoptra/formats/format.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace fs = std::filesystem;
namespace {

std::vector<std::string>& words() {
  static std::vector<std::string> all;
  return all;
}

// Options that do not change a cell; those with a value, and those without.
bool is_about_running(const std::string& option, bool with_value) {
  static const std::set<std::string> kValues = {"-o", "--out", "--threads", "--memory", "--part", "--sheets"};
  static const std::set<std::string> kFlags = {"--json", "--quiet", "--overwrite"};
  return (with_value ? kValues : kFlags).contains(option);
}

// A file by its name, size and time: what is in it is not read for this.
void add_file(const fs::path& path, std::string& text) {
  std::error_code ec;
  const auto size = fs::file_size(path, ec);
  const auto time = fs::last_write_time(path, ec);
  if (ec) return;
  text += fmt::format("{} {} {}\n", path.filename().string(), size, time.time_since_epoch().count());
}

// The files behind a word; false where it names none.
bool add_files(const std::string& word, std::string& text) {
  std::error_code ec;
  const fs::path path = word;
  if (!fs::exists(path, ec)) return false;
  std::vector<std::string> files;
  if (fs::is_directory(path, ec) || may_be_shortlist(path)) {
    try {
      files = expand_inputs({word}, Inputs::All);
    } catch (const Error&) {
      // An area or a table, no list of tiles.
    }
  }
  if (fs::is_regular_file(path, ec)) files.push_back(word);
  for (const std::string& f : files) {
    add_file(f, text);
    for (const fs::path& beside : files_beside(f)) add_file(beside, text);
  }
  return true;
}

// All that a grid is made from: the command, and the files it names as they are now.
std::string made_from(const std::set<std::string>& others) {
  std::string text;
  const std::vector<std::string>& all = words();
  for (std::size_t i = 1; i < all.size(); ++i) {
    std::string word = all[i];
    if (others.contains(word)) continue;
    if (is_about_running(word, true)) {
      ++i;
      continue;
    }
    const auto equals = word.find('=');
    if (is_about_running(word, false) || (equals != word.npos && is_about_running(word.substr(0, equals), true)))
      continue;
    if (word.starts_with("like:"))
      word.erase(0, 5);
    else if (word.starts_with("--") && equals != word.npos) {
      text += word.substr(0, equals) + "\n";
      word.erase(0, equals + 1);
    }
    if (!add_files(word, text)) text += word + "\n";
  }
  return text;
}

std::pair<int, int> part_of(const std::string& text) {
  if (text.empty()) return {1, 1};
  const auto slash = text.find('/');
  const auto part = parse_number(text.substr(0, slash)),
             parts = slash == text.npos ? std::nullopt : parse_number(text.substr(slash + 1));
  constexpr double kMost = 1e6;
  if (!part || !parts || *part != std::floor(*part) || *parts != std::floor(*parts) || *part < 1 || *part > *parts ||
      *parts > kMost)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no part", text), "--part",
                "write for instance 2/8, for the second of eight");
  return {static_cast<int>(*part), static_cast<int>(*parts)};
}

std::string files_named(const std::string& out) {
  const fs::path p = out;
  return (p.parent_path() / fmt::format("{}_*{}", p.stem().string(), p.extension().string())).string();
}

std::string count_of(std::int64_t n, const char* thing) { return fmt::format("{} {}{}", n, thing, n == 1 ? "" : "s"); }

void plan(const Grid& grid, const Common& c, const SheetsOptions& o, Statement& s) {
  const Frame& f = grid.frame();
  ordered_json names = ordered_json::array();
  for (const Sheet& sheet : planned_sheets(grid, c.out, o)) names.push_back(sheet.name);
  const auto all = static_cast<std::int64_t>(sheets_of(f, o.edge).size()),
             mine = static_cast<std::int64_t>(names.size());
  s.line("plan", fmt::format("{}; {} x {} cells, up to {} before compression; nothing was written",
                             count_of(all, "sheet"), f.cols(), f.rows(),
                             format_bytes(static_cast<double>(f.cols()) * static_cast<double>(f.rows()) *
                                          bytes_per_sample(grid.info().type))));
  if (o.parts > 1) s.line("part", fmt::format("{} of {}: {}", o.part, o.parts, count_of(mine, "sheet")));
  s.fact("sheets", std::move(names));
  s.fact("dry_run", true);
}

void state(const SheetsReport& r, const SheetsOptions& o, Statement& s) {
  const auto there = static_cast<std::int64_t>(r.sheets.size()) - r.missing;
  std::string text =
      fmt::format("{} of {}: {} made", there, count_of(static_cast<std::int64_t>(r.sheets.size()), "sheet"), r.made);
  if (r.whole_already > 0) text += fmt::format(", {} whole already", r.whole_already);
  if (r.without_value > 0) text += fmt::format(", {} without a value and so without a file", r.without_value);
  s.line("sheets", text);
  if (o.parts > 1) s.line("part", fmt::format("{} of {}", o.part, o.parts));
  if (r.missing > 0)
    s.line("missing", fmt::format("{}, left to other parts; who finds all of them whole writes the index",
                                  count_of(r.missing, "sheet")));
  if (!r.index.empty()) s.line("index", r.index.string());
  if (!r.collection.empty()) s.line("catalogue", r.collection.string());
  s.line("size", fmt::format("{} x {} cells, {}{}", r.info.frame.cols(), r.info.frame.rows(),
                             format_bytes(static_cast<double>(r.bytes)),
                             r.format.empty() ? "" : fmt::format(", {} ({})", r.format, r.compression)));
  if (r.cells > 0) {
    s.line("range", range_text(r.lowest, r.highest, r.info.quantity));
    s.line("voids", part_text(r.voids, r.cells, "cells"));
  }
  s.fact("made", r.made);
  s.fact("whole_already", r.whole_already);
  s.fact("missing", r.missing);
  s.fact("without_value", r.without_value);
  s.fact("bytes", r.bytes);
  s.fact("cells", r.cells);
  s.fact("voids", r.voids);
  const auto number = [](double v) { return std::isnan(v) ? ordered_json(nullptr) : ordered_json(v); };
  s.fact("range", {number(r.lowest), number(r.highest)});
  s.fact("index", r.index.empty() ? ordered_json(nullptr) : ordered_json(r.index.string()));
  s.fact("catalogue", r.collection.empty() ? ordered_json(nullptr) : ordered_json(r.collection.string()));
}

}  // namespace

void remember_words(int argc, char** argv) { words().assign(argv, argv + argc); }

void add_sheets(CLI::App& verb, Common& c) {
  verb.add_option("--sheets", c.sheets,
                  "many files with edges of this size (10km, or 1deg), NAME_SHEET beside -o, with an index; those that "
                  "are whole are not made again")
      ->type_name("SIZE")
      ->group(kOutputOptions);
  verb.add_option("--part", c.part, "of the sheets only this part, e.g. 2/8: eight runs come together")
      ->type_name("K/N")
      ->group(kOutputOptions);
}

void write_as_sheets(const Grid& grid, const Common& c, const WriteOptions& options, Statement& s,
                     const std::set<std::string>& others) {
  if (c.sheets.empty())
    throw Error(ErrorCode::BadArgument, "parts are made of sheets", "--part", "say how large they are with --sheets");
  SheetsOptions o;
  o.edge = parse_cell_edge(c.sheets);
  o.made_from = made_from(others);
  std::tie(o.part, o.parts) = part_of(c.part);
  o.write = options;
  const Frame& f = grid.frame();
  s.title(files_named(c.out));
  s.json().update(info_json(grid.info()));
  std::vector<std::string> notes = grid.info().notes;
  if (c.dry_run) {
    plan(grid, c, o, s);
  } else {
    const SheetsReport r = write_sheets(grid, c.out, o);
    state(r, o, s);
    notes = r.info.notes;
  }
  s.line("CRS", f.crs().label());
  s.line("cell", cell_text(f));
  if (grid.quantity().kind == QuantityKind::Height) s.line("heights", height_text(grid.quantity()));
  for (const std::string& n : notes) s.note(n);
}

}  // namespace katoptra::cli
