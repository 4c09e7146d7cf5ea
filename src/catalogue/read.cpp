// Catalogues of every kind behind one door: what is at a location decides how it is read.
#include <algorithm>
#include <deque>
#include <fmt/format.h>
#include <iterator>
#include <map>
#include <mutex>
#include <set>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/catalogue/catalogue_file.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/http.hpp"

#include "stac_api.hpp"
#include "stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMostDocuments = 200'000, kMostDocument = std::size_t{256} << 20;
constexpr int kDeepestCatalogue = 16;

std::string text_at(const std::string& place) {
  if (is_url(place)) return get_text(place, kMostDocument);
  std::error_code ec;
  if (const auto size = fs::file_size(place, ec); !ec && size > kMostDocument)
    throw Error(
        ErrorCode::TooLarge,
        fmt::format("is {} of JSON, too much to read for every question", format_bytes(static_cast<double>(size))),
        place, "keep it in a catalogue file first: find --in FILE --keep FILE.katalog");
  return read_text_file(place, kMostDocument);
}

// Does the extent of a collection touch the area? A collection that does not say is looked through.
bool may_touch(const json& document, const Area* area) {
  const json& boxes = member(member(member(document, "extent"), "spatial"), "bbox");
  if (!area || !boxes.is_array() || boxes.empty()) return true;
  const Bounds wanted = area->in(Crs::wgs84()).bounds();
  const json& b = boxes[0];
  if (!b.is_array() || (b.size() != 4 && b.size() != 6)) return true;
  for (const json& v : b)
    if (!v.is_number()) return true;
  Bounds box{b[0].get<double>(), b[1].get<double>(), b[b.size() / 2].get<double>(), b[b.size() / 2 + 1].get<double>()};
  if (box.west > box.east) box.east += 360;
  for (double turn : {-360.0, 0.0, 360.0})
    if (Bounds{box.west + turn, box.south, box.east + turn, box.north}.intersects(wanted)) return true;
  return false;
}

// Goes through a static catalogue from document to document.
class Crawler {
 public:
  Crawler(const CatalogueQuery& query, const CatalogueOptions& options) : query_(query), options_(options) {}

  Catalogue from(const std::string& place, std::string text) {
    std::vector<Step> now = {{place, 0, nullptr}};
    seen_.insert(place);
    bool first = true;
    while (!now.empty()) {
      std::vector<std::string> texts(now.size());
      std::vector<std::string> failed(now.size());
      if (first)
        texts[0] = std::move(text);
      else
        parallel_for(now.size(), options_.run, [&](std::size_t i) {
          try {
            texts[i] = text_at(now[i].place);
          } catch (const Error& e) {
            if (e.code() == ErrorCode::Cancelled) throw;
            failed[i] = e.what();
          }
        });
      std::vector<Step> next;
      for (std::size_t i = 0; i < now.size(); ++i) {
        if (!failed[i].empty())
          note("a part of the catalogue cannot be read: " + failed[i]);
        else
          document(now[i], texts[i], next, first);
      }
      first = false;
      now = std::move(next);
    }
    return std::move(out_);
  }

 private:
  struct Step {
    std::string place;
    int depth;
    const SurveyRecord* survey;
  };

  void note(const std::string& text) {
    if (out_.notes.size() < 20 && std::find(out_.notes.begin(), out_.notes.end(), text) == out_.notes.end())
      out_.notes.push_back(text);
  }

  void document(const Step& at, const std::string& text, std::vector<Step>& next, bool first) {
    json j;
    try {
      j = parse_json(text, shown_url(at.place));
      const std::string type = word(j, "type");
      if (type == "Feature") {
        item(text, at);
      } else if (type == "FeatureCollection") {
        const json& features = member(j, "features");
        if (features.is_array())
          for (const json& f : features) item(f.dump(), at);
        // Features that are no items at all were not meant as a catalogue.
        if (first && features.is_array() && !features.empty() && good_items_ == 0)
          throw Error(ErrorCode::BadFile, "holds features, but no STAC item", shown_url(at.place),
                      "name a folder, a STAC document, a catalogue file or the address of a service");
        follow(j, {"next"}, at, at.survey, next);
      } else if (type == "Catalog" || type == "Collection" || j.contains("links")) {
        const SurveyRecord* survey = at.survey;
        if (type == "Collection" || j.contains("extent")) {
          if (!may_touch(j, query_.area)) return;
          surveys_.push_back(survey_of_collection(text));
          out_.surveys.push_back(surveys_.back());
          survey = &surveys_.back();
        }
        follow(j, {"child", "item"}, at, survey, next);
      } else {
        throw Error(ErrorCode::BadFile, "is neither a STAC catalogue nor items", shown_url(at.place),
                    "give the address of a catalogue, a collection or an ItemCollection");
      }
    } catch (const Error& e) {
      if (first || e.code() != ErrorCode::BadFile) throw;
      note(e.what());
    }
  }

  void item(const std::string& text, const Step& at) {
    if (out_.tiles.size() >= options_.most_items)
      throw Error(ErrorCode::TooLarge, fmt::format("lists more than {} tiles", options_.most_items),
                  shown_url(at.place), "give a smaller area, or keep it in a catalogue file first (find --keep)");
    try {
      auto tiles = tiles_of_item(text, {at.place, options_.hosts, at.survey});
      std::move(tiles.begin(), tiles.end(), std::back_inserter(out_.tiles));
      ++good_items_;
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      note(e.what());
    }
  }

  void follow(const json& j, std::initializer_list<const char*> rels, const Step& at, const SurveyRecord* survey,
              std::vector<Step>& next) {
    const json& links = member(j, "links");
    if (!links.is_array()) return;
    for (const json& link : links) {
      const std::string rel = word(link, "rel"), href = word(link, "href");
      if (href.empty() || std::none_of(rels.begin(), rels.end(), [&](const char* r) { return rel == r; })) continue;
      const std::string to = resolve_url(at.place, href);
      if (!allowed(at.place, to)) continue;
      if (at.depth >= kDeepestCatalogue && rel != "next") {
        note(fmt::format("{}: is nested deeper than {} catalogues; what lies below is left out", shown_url(at.place),
                         kDeepestCatalogue));
        continue;
      }
      if (!seen_.insert(to).second) continue;
      if (seen_.size() > kMostDocuments)
        throw Error(ErrorCode::TooLarge, fmt::format("has more than {} documents", kMostDocuments), shown_url(at.place),
                    "give the address of a part of it");
      next.push_back({to, at.depth + 1, survey});
    }
  }

  bool allowed(const std::string& from, const std::string& to) {
    if (is_url(to)) {
      const std::string host = host_of(to);
      if ((is_url(from) && host == host_of(from)) || options_.hosts.count(host)) return true;
      note(fmt::format("{} leads on to {}, a host you did not name: --host {}", shown_url(from), host, host));
      return false;
    }
    if (!is_url(from) && to.find("://") == to.npos) return true;
    note(
        fmt::format("{} leads on to '{}', which is no web address; it is not read", shown_url(from), to.substr(0, 80)));
    return false;
  }

  const CatalogueQuery& query_;
  const CatalogueOptions& options_;
  std::set<std::string> seen_;
  std::deque<SurveyRecord> surveys_;
  std::size_t good_items_ = 0;
  Catalogue out_;
};

Catalogue read_folder(const fs::path& folder, const CatalogueQuery& query, const CatalogueOptions& options) {
  if (options.cache.empty()) return open_folder(folder, {options.run});
  try {
    std::error_code ec;
    fs::create_directories(options.cache / "folders", ec);
    Sha256 sum;
    const std::string name = fs::absolute(folder).lexically_normal().string();
    sum.add({reinterpret_cast<const std::uint8_t*>(name.data()), name.size()});
    CatalogueFile file(options.cache / "folders" / (sum.hex().substr(0, 32) + ".katalog"));
    file.refresh_folder(folder, options.run);
    Catalogue c = file.search(query, options);
    // Tiles bear the name by which the folder was called.
    for (TileRecord& t : c.tiles) t.path = folder / t.path.lexically_relative(fs::absolute(folder).lexically_normal());
    return c;
  } catch (const Error& e) {
    // A store that cannot be kept costs time, not the answer.
    if (e.code() != ErrorCode::Io && e.code() != ErrorCode::Unsupported) throw;
    Catalogue c = open_folder(folder, {options.run});
    c.notes.push_back(fmt::format("what is known of the folder could not be kept: {}", e.what()));
    return c;
  }
}

}  // namespace

Catalogue read_catalogue(const std::string& location, const CatalogueQuery& query, const CatalogueOptions& options) {
  if (!is_url(location)) {
    std::error_code ec;
    const fs::path path = location;
    if (fs::is_directory(path, ec)) {
      for (const char* name : {"catalog.json", "collection.json"})
        if (fs::is_regular_file(path / name, ec)) return read_catalogue((path / name).string(), query, options);
      return read_folder(path, query, options);
    }
    if (CatalogueFile::is_one(path)) return CatalogueFile(path).search(query, options);
    const auto head = open_file(path)->head(256);
    const auto mark = std::find_if(head.begin(), head.end(), [](std::uint8_t c) { return !std::isspace(c); });
    if (mark == head.end() || *mark != '{') {
      Catalogue c;
      c.tiles.push_back(describe_tile(path));
      if (!c.tiles[0].openable)
        throw Error(ErrorCode::BadFile, "is neither a catalogue nor a grid that is read here", location,
                    "name a folder, a STAC document, a catalogue file or the address of a service");
      return c;
    }
  }
  std::string text = text_at(location);
  if (const json j = parse_json(text, shown_url(location)); is_url(location) && is_stac_api(j))
    return search_stac_api(location, j, query, options);
  return Crawler(query, options).from(location, std::move(text));
}

}  // namespace katoptra
