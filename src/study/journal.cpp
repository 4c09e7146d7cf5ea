#include "journal.hpp"

#include <nlohmann/json.hpp>
#include <set>
#include <sstream>
#include <toml++/toml.h>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/version.hpp"

namespace katoptra {
namespace fs = std::filesystem;
using json = nlohmann::ordered_json;

std::string checksum_of(const fs::path& path) {
  auto source = open_file(path);
  Sha256 sum;
  std::vector<std::uint8_t> piece(1 << 20);
  for (std::uint64_t at = 0; at < source->size();) {
    const std::size_t n = source->read_at(at, piece);
    if (n == 0) break;
    sum.add(std::span(piece.data(), n));
    at += n;
  }
  return sum.hex();
}

namespace {

constexpr const char* kName = "steps.json";

class Key {
 public:
  void add(const std::string& text) {
    sum_.add({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
    sum_.add(std::vector<std::uint8_t>{0});
  }
  void add_file(const fs::path& path) {
    std::error_code ec;
    if (!fs::is_regular_file(path, ec) || fs::file_size(path, ec) == 0 || !seen_.insert(path).second) return;
    add(path.filename().string());
    add(checksum_of(path));
  }
  std::string hex() { return sum_.hex(); }

 private:
  Sha256 sum_;
  std::set<fs::path> seen_;
};

// Every text in a table that names a file beside the study. What a product is to be called in the run's folder does
// not, whatever lies beside the study under that name.
void find_named_files(const toml::node& node, const fs::path& folder, std::vector<fs::path>& out,
                      bool of_product = false) {
  if (const auto* table = node.as_table())
    for (const auto& [name, value] : *table)
      if (!of_product || name != "file") find_named_files(value, folder, out, name == "product");
  if (const auto* list = node.as_array())
    for (const auto& value : *list) find_named_files(value, folder, out, of_product);
  if (const auto text = node.value<std::string>(); text && !text->empty() && text->size() < 4096) {
    std::error_code ec;
    if (fs::is_regular_file(folder / *text, ec)) out.push_back(folder / *text);
  }
}

void add_named_files(const toml::node& node, const fs::path& folder, Key& key, bool of_product = false) {
  std::vector<fs::path> files;
  find_named_files(node, folder, files, of_product);
  for (const fs::path& f : files) key.add_file(f);
}

std::string printed(const toml::node& node) {
  std::ostringstream out;
  if (const auto* t = node.as_table()) out << toml::default_formatter(*t);
  return out.str();
}

}  // namespace

std::vector<fs::path> named_files(const Study& study) {
  std::vector<fs::path> out;
  find_named_files(toml::parse(study.text), study.folder, out);
  // And what the styles of its maps name.
  for (const StudyProduct& p : study.products)
    for (const fs::path& f : files_of(p.style)) out.push_back(f);
  return out;
}

Journal::Journal(const fs::path& folder) : folder_(folder) {
  std::error_code ec;
  if (!fs::is_regular_file(folder / kName, ec)) return;
  try {
    const json j = json::parse(read_text_file(folder / kName, 1 << 24));
    begun_ = true;
    complete_ = j.value("complete", false);
    for (const auto& [name, s] : j.at("steps").items()) {
      Step step{s.at("key").get<std::string>(), s.at("facts").dump(), {}};
      for (const auto& [file, sum] : s.at("files").items()) step.files[file] = sum.get<std::string>();
      steps_[name] = std::move(step);
    }
  } catch (const std::exception&) {
    steps_.clear();  // of no use: everything is made anew
  }
}

bool Journal::holds(const std::string& step, const std::string& key) const {
  const auto s = steps_.find(step);
  if (s == steps_.end() || s->second.key != key) return false;
  std::error_code ec;
  for (const auto& [file, sum] : s->second.files)
    if (!fs::is_regular_file(folder_ / file, ec) || fs::file_size(folder_ / file, ec) == 0 ||
        checksum_of(folder_ / file) != sum)
      return false;
  return true;
}

std::string Journal::facts(const std::string& step) const {
  const auto s = steps_.find(step);
  return s == steps_.end() ? "{}" : s->second.facts;
}

std::vector<std::string> Journal::files(const std::string& step) const {
  std::vector<std::string> out;
  if (const auto s = steps_.find(step); s != steps_.end())
    for (const auto& [file, sum] : s->second.files) out.push_back(file);
  return out;
}

void Journal::add(const std::string& step, const std::string& key, const std::vector<std::string>& files,
                  const std::string& facts) {
  Step s{key, facts, {}};
  for (const std::string& f : files) s.files[f] = checksum_of(folder_ / f);
  steps_[step] = std::move(s);
  complete_ = false;
  write();
}

void Journal::begin() {
  complete_ = false;
  write();
}

void Journal::finish() {
  complete_ = true;
  write();
}

void Journal::write() const {
  json j{{"complete", complete_}, {"steps", json::object()}};
  for (const auto& [name, s] : steps_)
    j["steps"][name] = {{"key", s.key}, {"files", s.files}, {"facts", json::parse(s.facts)}};
  write_text_file(folder_ / kName, j.dump(1, ' ', false, json::error_handler_t::replace) + "\n", {.overwrite = true});
}

std::string key_of_surface(const Study& study, const StudyPlan& plan) {
  Key key;
  key.add(KATOPTRA_VERSION);
  toml::table settings = toml::parse(study.text);
  for (const char* later : {"product", "title", "check", "control", "reference"})
    if (!(study.level && study.level->by_control && std::string_view(later) == "control")) settings.erase(later);
  key.add(printed(settings));
  add_named_files(settings, study.folder, key);
  for (const ShortlistTile& t : plan.shortlist.tiles) {
    if (!t.kept) continue;
    key.add(t.tile.path.filename().string());
    key.add(t.tile.survey + "|" + t.tile.date);
    if (t.tile.remote()) {
      key.add(t.tile.checksum + "|" + std::to_string(t.tile.bytes));
      continue;
    }
    key.add_file(t.tile.path);
    for (const fs::path& beside : files_beside(t.tile.path)) key.add_file(beside);
  }
  for (const StudyPoints& p : study.points)
    for (const fs::path& f : p.files) key.add_file(f);
  return key.hex();
}

std::string key_of_product(const Study& study, std::size_t product, const std::string& surface_checksum) {
  Key key;
  key.add(KATOPTRA_VERSION);
  key.add(surface_checksum);
  const toml::table settings = toml::parse(study.text);
  if (const auto* list = settings["product"].as_array(); list && product < list->size()) {
    key.add(printed(*list->get(product)));
    add_named_files(*list->get(product), study.folder, key, true);
  }
  return key.hex();
}

}  // namespace katoptra
