#include "katoptra/catalogue/fetch.hpp"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstring>
#include <curl/curl.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <map>
#include <mutex>
#include <set>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <thread>
#include <unistd.h>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"

#include "base/csv.hpp"
#include "base/text.hpp"
#include "box_text.hpp"
#include "formats/bytes/content_range.hpp"
#include "formats/bytes/descriptor.hpp"
#include "stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr int kWholeTries = 3;  // of a file that came whole, but wrong
constexpr const char* kRecord = ".fetched.json";

double now_seconds() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

// A name that a catalogue uses as a plain file name below a folder.
std::string plain_name(const std::string& name) {
  std::string out;
  for (const char c : name)
    out += static_cast<unsigned char>(c) < 32 || c == '/' || c == '\\' || c == ':' || c == 127 ? '_' : c;
  while (out.starts_with('.')) out.erase(0, 1);
  if (out.size() > 200) out.erase(0, out.size() - 200);
  return out.empty() ? "tile" : out;
}

std::string short_hash(const std::string& text) {
  Sha256 sum;
  sum.add({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
  return sum.hex().substr(0, 8);
}

// Names and tags of a server need not be UTF-8.
std::string plain_text(const ordered_json& j, int indent) {
  return j.dump(indent, ' ', false, ordered_json::error_handler_t::replace);
}

// What is known of a file that is coming or came: which version of which address. Kept beside it.
struct Version {
  std::string url, tag, changed;
  std::uint64_t size = 0;
  std::string unpacked;  // the folder that took its place

  static Version read(const fs::path& path) {
    Version v;
    std::error_code ec;
    if (!fs::is_regular_file(path, ec) || fs::file_size(path, ec) == 0) return v;
    const json j = json::parse(read_text_file(path, 1 << 20), nullptr, false);
    v.url = word(j, "url");
    v.tag = word(j, "tag");
    v.changed = word(j, "changed");
    v.size = static_cast<std::uint64_t>(std::max(0.0, number(j, "size")));
    v.unpacked = word(j, "unpacked");
    return v;
  }
  // Neither user names nor keys in an address are kept.
  ordered_json json_text() const {
    return {{"url", url}, {"tag", tag}, {"changed", changed}, {"size", size}, {"unpacked", unpacked}};
  }
  void write(const fs::path& path) const { write_text_file(path, plain_text(json_text(), -1), {.overwrite = true}); }
  // What a server needs to know to go on with the same version.
  std::string condition() const { return !tag.empty() && !tag.starts_with("W/") ? tag : changed; }
};

// The files that this program brought into a folder, by name.
class Brought {
 public:
  explicit Brought(fs::path folder) : path_(folder / kRecord) {
    std::error_code ec;
    if (!fs::is_regular_file(path_, ec)) return;
    const json j = json::parse(read_text_file(path_), nullptr, false);
    if (!j.is_object()) return;
    for (const auto& [name, v] : j.items())
      versions_[name] = {word(v, "url"), word(v, "tag"), word(v, "changed"),
                         static_cast<std::uint64_t>(std::max(0.0, number(v, "size"))), word(v, "unpacked")};
  }
  const Version* find(const std::string& name) const {
    const auto f = versions_.find(name);
    return f == versions_.end() ? nullptr : &f->second;
  }
  void add(const std::string& name, Version v) {
    versions_[name] = std::move(v);
    ordered_json j = ordered_json::object();
    for (const auto& [n, x] : versions_) j[n] = x.json_text();
    write_text_file(path_, plain_text(j, 1), {.overwrite = true});
  }

 private:
  fs::path path_;
  std::map<std::string, Version> versions_;
};

// A local file that grows from where it is, and knows how large it is.
class PartFile {
 public:
  explicit PartFile(const fs::path& path) : path_(path) {
    for (int tries = 0;; ++tries) {
      // A link that somebody put there is not followed.
      fd_ = ::open(path.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0666);
      struct stat st {
      }, there{};
      if (fd_ < 0 || ::fstat(fd_, &st) != 0)
        throw Error(ErrorCode::Io, fmt::format("cannot be written: {}", std::strerror(errno)), path.string(),
                    "check the folder and its permissions");
      if (::flock(fd_, LOCK_EX | LOCK_NB) != 0) {
        close();
        throw Error(ErrorCode::Io, "is being brought by another program", path.string(), "wait until that is done");
      }
      // Another program may have given the part its final name between the two calls: then this is its tile.
      if (::stat(path.c_str(), &there) == 0 && there.st_ino == st.st_ino && there.st_dev == st.st_dev) {
        ::fstat(fd_, &st);
        size_ = static_cast<std::uint64_t>(st.st_size);
        return;
      }
      close();
      if (tries == 10)
        throw Error(ErrorCode::Io, "is being brought by another program", path.string(), "wait until that is done");
    }
  }
  ~PartFile() { close(); }
  PartFile(const PartFile&) = delete;
  PartFile& operator=(const PartFile&) = delete;
  std::uint64_t size() const { return size_; }
  void cut(std::uint64_t to) {
    if (::ftruncate(fd_, static_cast<off_t>(to)) != 0)
      throw Error(ErrorCode::Io, fmt::format("cannot be cut: {}", std::strerror(errno)), path_.string());
    size_ = to;
  }
  void append(std::span<const std::uint8_t> bytes) {
    write_descriptor(fd_, size_, bytes, path_.string());
    size_ += bytes.size();
  }
  void close() {
    if (fd_ >= 0) ::close(std::exchange(fd_, -1));
  }

 private:
  fs::path path_;
  int fd_;
  std::uint64_t size_ = 0;
};

std::optional<std::uint64_t> content_length(const HttpResponse& head) {
  const auto n = parse_number(head.header("content-length"));
  return n && *n >= 0 && *n < 9e15 ? std::optional(static_cast<std::uint64_t>(*n)) : std::nullopt;
}

// Where the part of an answer of 206 lies, and how long the whole is.
struct Range {
  std::uint64_t begin = 0, end = 0, total = 0;  // end: one beyond the last
};
// Nullopt when the answer does not tell all three, or they do not fit.
std::optional<Range> range_of(const HttpResponse& head) {
  const std::string text = head.header("content-range");
  const auto dash = text.find('-'), slash = text.find('/');
  if (!text.starts_with("bytes ") || dash == text.npos || slash == text.npos || slash < dash) return std::nullopt;
  const auto a = parse_number(text.substr(6, dash - 6)), b = parse_number(text.substr(dash + 1, slash - dash - 1)),
             n = parse_number(text.substr(slash + 1));
  if (!a || !b || !n || !(*a >= 0 && *b >= *a && *n > *b && *n < 9e15)) return std::nullopt;
  return Range{static_cast<std::uint64_t>(*a), static_cast<std::uint64_t>(*b) + 1, static_cast<std::uint64_t>(*n)};
}

// "tile.1.zip" is unpacked into "tile.1": only the endings of archives go.
std::string name_unpacked(std::string name) {
  for (const Format* f = format_of(name); f && f->holds(Holds::Files, Use::Read); f = format_of(name))
    name.resize(name.rfind('.'));
  return name;
}

class Mover {
 public:
  Mover(const FetchOptions& options, std::function<void(std::uint64_t)> moved)
      : options_(options), moved_(std::move(moved)) {}

  // Brings the entry to tile.path; throws when that cannot be.
  void bring(FetchedTile& tile) {
    const fs::path part = tile.path.parent_path() / ("." + tile.path.filename().string() + ".part"),
                   note = tile.path.parent_path() / ("." + tile.path.filename().string() + ".part.json");
    bring_beside(tile);
    for (int left = kWholeTries;; --left) {
      const Version v = tile.entry.path.native().empty() || !is_url(tile.entry.path.native()) ? copy(tile, part)
                                                                                              : load(tile, part, note);
      const std::string wrong = judge(tile, part, v);
      if (wrong.empty()) {
        finish(tile, part, note, v);
        return;
      }
      std::error_code ec;
      fs::remove(part, ec);
      fs::remove(note, ec);
      if (left <= 1 || !is_url(tile.entry.path.native()))
        throw Error(ErrorCode::BadFile, wrong, shown_url(tile.entry.path.native()),
                    "tell who publishes it; nothing was kept");
    }
  }

 private:
  // Header, place and references of a file that keeps them beside it come with it. Formats that tell all themselves
  // have none on the web; on a disk it costs nothing to look.
  void bring_beside(FetchedTile& tile) {
    const fs::path& from = tile.entry.path;
    if (is_url(from.native())) {
      bring_beside_from_web(tile);
      return;
    }
    for (const fs::path& p : files_beside(from)) {
      const bool appended = p.filename().string().starts_with(from.filename().string());
      const fs::path to = appended ? fs::path(tile.path.string() + p.extension().string())
                                   : fs::path(tile.path).replace_extension(p.extension());
      std::error_code ec;
      if (fs::exists(to, ec) && !options_.overwrite) continue;
      fs::copy_file(p, to, fs::copy_options::overwrite_existing, ec);
    }
  }
  void bring_beside_from_web(FetchedTile& tile) {
    const Format* format = format_of(tile.path);
    if (!format || format->alone) return;
    const std::string from = tile.entry.path.string();
    const auto bring = [&](const std::string& url, const fs::path& to) {
      std::error_code ec;
      if (!fs::exists(to, ec) || options_.overwrite) bring_small(url, to);
    };
    for (const std::string& e : format->beside) {
      bring(with_extension(from, e), fs::path(tile.path).replace_extension(e));
      if (e == ".json") bring(from + e, tile.path.string() + e);
    }
  }
  static std::string with_extension(const std::string& url, const std::string& extension) {
    const auto end = url.find_first_of("?#"), dot = url.substr(0, end).rfind('.');
    return url.substr(0, dot) + extension;
  }
  static void bring_small(const std::string& url, const fs::path& to) {
    try {
      const HttpResponse r = send_patiently({.url = url}, {.tries = 1});
      const std::string head = lower_case(r.body.substr(0, 64));
      if (r.ok() && !r.body.empty() && head.find("<html") == head.npos && head.find("<!doctype") == head.npos)
        write_text_file(to, r.body, {.overwrite = true});
    } catch (const Error& e) {
      if (e.code() == ErrorCode::Cancelled) throw;  // else there is none
    }
  }
  void came(FetchedTile& tile, std::uint64_t bytes) {
    tile.moved += bytes;
    moved_(bytes);
    if (options_.progress) options_.progress->check();
  }

  Version copy(FetchedTile& tile, const fs::path& part) {
    const auto from = open_file(tile.entry.path);
    PartFile to(part);
    to.cut(0);
    std::vector<std::uint8_t> piece(std::size_t{1} << 20);
    while (to.size() < from->size()) {
      const std::size_t n = from->read_at(to.size(), piece);
      if (n == 0) throw Error(ErrorCode::BadFile, "ends early", from->name(), "it changed meanwhile; start again");
      to.append(std::span(piece).first(n));
      came(tile, n);
    }
    return {
        .url = fs::absolute(tile.entry.path).string(), .tag = {}, .changed = {}, .size = from->size(), .unpacked = {}};
  }

  // Goes on with the part that is there, again and again, until it is whole. Only what brings it further than ever
  // before earns new patience: a server that begins again and again does not.
  Version load(FetchedTile& tile, const fs::path& part, const fs::path& note) {
    const std::string url = tile.entry.path.string();
    Version v = Version::read(note);
    PartFile file(part);
    if (v.url != shown_url(url) || v.condition().empty()) {
      file.cut(0);
      v = {};
    }
    if (file.size() > 0) tile.outcome = FetchOutcome::Resumed;
    Patience patience = options_.patience;
    patience.reconnect = false;  // the next request asks for less
    std::uint64_t furthest = file.size();
    bool in_parts = true;  // false once the server has answered a range with something else
    for (int left = std::max(1, patience.tries);;) {
      std::optional<std::uint64_t> size;
      std::string strange;  // why an answer of 206 is no use
      if (!in_parts && file.size() > 0) file.cut(0);
      HttpRequest q{.url = url, .headers = {{"Accept-Encoding", "identity"}}, .progress = options_.progress};
      if (file.size() > 0) {
        q.headers.emplace_back("Range", fmt::format("bytes={}-", file.size()));
        q.headers.emplace_back("If-Range", v.condition());
      }
      q.begin = [&](const HttpResponse& head) {
        if (head.status != 200 && head.status != 206) return false;
        if (const std::string coding = head.header("content-encoding"); !coding.empty() && coding != "identity")
          throw Error(ErrorCode::BadFile, fmt::format("comes packed ({}), which was not asked for", coding),
                      shown_url(url), "tell who publishes it");
        if (head.status == 206) {
          const auto range = range_of(head);
          strange = !range                        ? "sends a part, and does not say which"
                    : range->begin != file.size() ? "sends another part than was asked for"
                    : !same_version(head, v)      ? "has another version than the part that is here"
                                                  : "";
          if (!strange.empty()) return false;
          size = range->total;
        } else {
          if (file.size() > 0) tile.outcome = FetchOutcome::Fetched;
          file.cut(0);  // another version, or a server without ranges
          size = content_length(head);
        }
        v = {shown_url(url), head.header("etag"), head.header("last-modified"), size.value_or(0), {}};
        v.write(note);
        return true;
      };
      q.take = [&](std::span<const std::uint8_t> bytes) {
        if (size && bytes.size() > *size - std::min(*size, file.size())) {
          strange = fmt::format("sends more than the {} bytes it told of", *size);
          throw Error(ErrorCode::Network, strange, shown_url(url), "tell who publishes it");
        }
        file.append(bytes);
        came(tile, bytes.size());
      };
      std::string trouble;
      try {
        const HttpResponse r = send_patiently(q, patience);
        if (r.status == 416) {
          // What is here is longer than what is there.
          file.cut(0);
          tile.outcome = FetchOutcome::Fetched;
          trouble = "has another size than the part that is here";
        } else if (!strange.empty()) {
          trouble = strange;
        } else if (r.status != 200 && r.status != 206) {
          refuse_answer(r);
        } else if (size && file.size() != *size) {
          trouble = fmt::format("sent {} of {} bytes", file.size(), *size);
        } else {
          return v;
        }
      } catch (const Error& e) {
        // A connection that ends early is gone on with.
        if (e.code() != ErrorCode::Network || (file.size() == 0 && left <= 1)) throw;
        trouble = e.problem();
      }
      if (!strange.empty()) in_parts = false;
      left = file.size() > furthest ? std::max(1, patience.tries) : left - 1;
      furthest = std::max(furthest, file.size());
      if (left <= 0)
        throw Error(ErrorCode::Network, trouble, shown_url(url), "say fetch again later; what came is kept");
      std::this_thread::sleep_for(patience.first);
    }
  }

  // A part is gone on with only when it is of the version that the rest is of.
  static bool same_version(const HttpResponse& head, const Version& v) {
    const std::string tag = head.header("etag"), changed = head.header("last-modified");
    return (tag.empty() || v.tag.empty() || tag == v.tag) &&
           (changed.empty() || v.changed.empty() || changed == v.changed);
  }

  // Why the file is not the right one; empty when it is.
  std::string judge(FetchedTile& tile, const fs::path& part, const Version& v) const {
    const std::uint64_t size = fs::file_size(part);
    tile.size = size;
    if (size == 0) return "is empty";
    if (!tile.entry.checksum.empty()) {
      const auto right = matches_multihash(part, tile.entry.checksum);
      if (right && !*right) return "its checksum is not the one in its catalogue";
      if (right) {
        if (tile.entry.bytes && tile.entry.bytes != size)
          tile.note =
              fmt::format("its catalogue says {} bytes, it has {}; its checksum is right", tile.entry.bytes, size);
        return {};
      }
      tile.note = "its checksum is of a kind that is not computed here, and was not looked at";
    }
    if (v.size && v.size != size) return fmt::format("has {} bytes, and the server said {}", size, v.size);
    if (tile.entry.bytes && tile.entry.bytes != size) {
      // One of the two is wrong. A file that can be opened and misses nothing vouches for itself.
      const TileRecord t = describe_part(part, tile.path);
      if (!t.openable || !t.problems.empty())
        return fmt::format("has {} bytes, its catalogue says {}{}", size, tile.entry.bytes,
                           t.problems.empty() ? "" : "; " + t.problems[0]);
      tile.note =
          fmt::format("its catalogue says {} bytes, it has {}, and nothing in it is missing", tile.entry.bytes, size);
    }
    return tile.entry.bytes ? std::string() : no_such_file(part, tile.path);
  }

  // Without size and checksum nothing but the file itself can tell that it is what its name says: a page that asks for
  // a name and password is none. Empty when it may be.
  static std::string no_such_file(const fs::path& part, const fs::path& path) {
    const auto head = open_file(part)->head(512);
    std::string text(head.begin(), head.end());
    text = lower_case(text.substr(std::min(text.size(), text.find_first_not_of(" \t\r\n\xEF\xBB\xBF"))));
    if (text.starts_with("<!doctype html") || text.starts_with("<html"))
      return "is a web page, and not the file that was asked for";
    const Format* f = format_of(path);
    if (!f || !f->alone || !f->sure || !(f->holds(Holds::Grids, Use::Read) || f->holds(Holds::Points, Use::Read)))
      return {};
    const TileRecord t = describe_part(part, path);
    if (t.openable) return {};
    return "is not what its name says: " + (t.problems.empty() ? std::string("it cannot be opened") : t.problems[0]);
  }

  // Some formats are known by their names, so the part borrows the one it will have.
  static TileRecord describe_part(const fs::path& part, const fs::path& path) {
    const fs::path folder = part.parent_path() / fmt::format(".look-{}-{}", ::getpid(), short_hash(path.string()));
    std::error_code ec;
    fs::create_directories(folder, ec);
    const fs::path name = folder / path.filename();
    fs::create_hard_link(part, name, ec);
    if (ec) fs::copy_file(part, name, ec);
    // What travels with it is needed to tell what it is.
    for (const fs::path& beside : files_beside(path)) fs::copy_file(beside, folder / beside.filename(), ec);
    TileRecord t = describe_tile(name);
    fs::remove_all(folder, ec);
    return t;
  }

  void finish(FetchedTile& tile, const fs::path& part, const fs::path& note, const Version& v) const {
    if (const std::time_t t = v.changed.empty() ? -1 : curl_getdate(v.changed.c_str(), nullptr); t > 0) {
      const timeval times[2] = {{t, 0}, {t, 0}};
      ::utimes(part.c_str(), times);
    }
    std::error_code ec;
    if (fs::is_directory(tile.path, ec)) throw Error(ErrorCode::Io, "is a folder", tile.path.string());
    if (::rename(part.c_str(), tile.path.c_str()) != 0)
      throw Error(ErrorCode::Io, fmt::format("cannot be given its name: {}", std::strerror(errno)), tile.path.string());
    fs::remove(note, ec);
    if (tile.outcome != FetchOutcome::Resumed) tile.outcome = FetchOutcome::Fetched;
    version = v;
  }

 public:
  mutable Version version;

 private:
  const FetchOptions& options_;
  std::function<void(std::uint64_t)> moved_;
};

// Where each entry goes: FOLDER/SURVEY/NAME, with a mark where two would be the same.
std::vector<FetchedTile> places(const std::vector<ShortlistEntry>& entries, const fs::path& folder) {
  std::vector<FetchedTile> out;
  std::map<fs::path, std::string> taken;
  std::map<std::string, bool> asked;
  for (const ShortlistEntry& e : entries) {
    if (std::exchange(asked[e.path.string()], true)) continue;  // several tiles of one archive
    FetchedTile t{.entry = e};
    const std::string name =
        plain_name(is_url(e.path.native()) ? url_file_name(e.path.native()) : e.path.filename().string());
    t.path = folder / survey_id(e.survey) / name;
    if (taken.count(t.path)) t.path = folder / survey_id(e.survey) / (short_hash(e.path.string()) + "-" + name);
    taken[t.path] = e.path.string();
    out.push_back(std::move(t));
  }
  return out;
}

// Is it here, and the right one? Says in tile.problem when something else stands there.
bool is_here(FetchedTile& t, const Brought& brought, const FetchOptions& options) {
  std::error_code ec;
  const Version* v = brought.find(t.path.filename().string());
  const bool ours = v && v->url == (is_url(t.entry.path.native()) ? shown_url(t.entry.path.native())
                                                                  : fs::absolute(t.entry.path).string());
  if (ours && !v->unpacked.empty() && fs::is_directory(t.path.parent_path() / v->unpacked, ec)) {
    t.path = t.path.parent_path() / v->unpacked;
    t.size = v->size;
    return true;
  }
  if (!fs::exists(t.path, ec)) return false;
  t.size = fs::is_regular_file(t.path, ec) ? fs::file_size(t.path, ec) : 0;
  if (!t.entry.checksum.empty())
    if (const auto right = matches_multihash(t.path, t.entry.checksum)) {
      if (*right) return true;
      if (ours || options.overwrite) return false;
    }
  if (ours && v->size == t.size) return true;
  if (ours || options.overwrite) return false;
  t.problem =
      "something else of that name is in the folder: " + t.path.string() + "; choose another folder or say --overwrite";
  return false;
}

void write_survey(const fs::path& folder, const std::vector<const FetchedTile*>& tiles) {
  const ShortlistEntry& first = tiles[0]->entry;
  const fs::path path = folder / "survey.toml";
  std::error_code ec;
  if (fs::exists(path, ec) && !read_text_file(path).starts_with("# Brought")) return;
  auto quoted = [](const std::string& s) {
    return ordered_json(s).dump(-1, ' ', false, ordered_json::error_handler_t::replace);
  };
  std::string text = "# Brought with its tiles; written anew by the next fetch.\n";
  text += "name = " + quoted(first.survey) + "\n";
  const bool one_date = std::all_of(tiles.begin(), tiles.end(), [&](const FetchedTile* t) {
    return t->entry.date == first.date && !t->entry.date_guessed && t->entry.date.size() == 10;
  });
  if (one_date) text += "date = " + quoted(first.date) + "\n";
  if (!first.licence.empty()) text += "licence = " + quoted(first.licence) + "\n";
  if (!first.custodian.empty()) text += "custodian = " + quoted(first.custodian) + "\n";
  write_text_file(path, text, {.overwrite = true});
}

// A record in each survey's folder, and a shortlist of all that is here now.
void write_lists(FetchReport& report, const fs::path& top) {
  std::map<fs::path, std::vector<const FetchedTile*>> by_folder;
  std::string list =
      "kept,path,survey,date,date_guessed,crs,heights,unit,bytes,checksum,licence,access,custodian,west,south,east,"
      "north\n";
  for (const FetchedTile& t : report.tiles) {
    if (t.outcome == FetchOutcome::Failed) continue;
    by_folder[top / survey_id(t.entry.survey)].push_back(&t);
    list += fmt::format("1,{},{},{},{},{},{},{},{},{},{},{},{},{}\n", csv_field(t.path.string()),
                        csv_field(t.entry.survey), csv_field(t.entry.date), t.entry.date_guessed ? 1 : 0,
                        csv_field(t.entry.crs), csv_field(t.entry.heights), csv_field(t.entry.unit), t.size,
                        csv_field(t.entry.checksum), csv_field(t.entry.licence), name_of(t.entry.access),
                        csv_field(t.entry.custodian), box_text(t.entry.box));
  }
  for (const auto& [folder, tiles] : by_folder) write_survey(folder, tiles);
  if (!by_folder.empty()) {
    report.shortlist = top / "shortlist.csv";
    write_text_file(report.shortlist, list, {.overwrite = true});
  }
}

}  // namespace

const char* name_of(FetchOutcome o) {
  switch (o) {
    case FetchOutcome::Fetched:
      return "fetched";
    case FetchOutcome::Resumed:
      return "resumed";
    case FetchOutcome::Here:
      return "here";
    case FetchOutcome::Failed:
      break;
  }
  return "failed";
}

std::optional<bool> matches_multihash(const fs::path& path, const std::string& given) {
  const std::string m = lower_case(given);
  const bool sha256 = m.starts_with("1220") && m.size() == 68, sha1 = m.starts_with("1114") && m.size() == 44;
  if (!sha256 && !sha1) return std::nullopt;
  Sha256 a;
  Sha1 b;
  const auto file = open_file(path);
  std::vector<std::uint8_t> piece(std::size_t{1} << 20);
  for (std::uint64_t at = 0; at < file->size();) {
    const std::size_t n = file->read_at(at, piece);
    if (n == 0) return false;
    if (sha256)
      a.add(std::span(piece).first(n));
    else
      b.add(std::span(piece).first(n));
    at += n;
  }
  return (sha256 ? a.hex() : b.hex()) == m.substr(4);
}

std::vector<const FetchedTile*> FetchReport::missing() const {
  std::vector<const FetchedTile*> out;
  for (const FetchedTile& t : tiles)
    if (t.outcome == FetchOutcome::Failed) out.push_back(&t);
  return out;
}

FetchPlan plan_fetch(const std::vector<ShortlistEntry>& entries, const FetchOptions& options) {
  FetchPlan p;
  p.tiles = places(entries, options.folder);
  std::map<fs::path, Brought> brought;
  std::vector<FetchedTile*> ask;
  for (FetchedTile& t : p.tiles) {
    const Brought& b = brought.try_emplace(t.path.parent_path(), t.path.parent_path()).first->second;
    if (t.entry.access == Access::Restricted) {
      t.problem = "is restricted: ask " + (t.entry.custodian.empty() ? "its custodian" : t.entry.custodian);
    } else if (is_here(t, b, options)) {
      t.outcome = FetchOutcome::Here;
    } else if (t.problem.empty()) {
      t.outcome = FetchOutcome::Fetched;
      t.size = t.entry.bytes;
      std::error_code ec;
      if (!is_url(t.entry.path.native()))
        t.size = fs::is_regular_file(t.entry.path, ec) ? fs::file_size(t.entry.path) : 0;
      if (t.size == 0) ask.push_back(&t);
    }
  }
  RunOptions run{.threads = options.parallel, .progress = options.progress};
  parallel_for(ask.size(), run, [&](std::size_t i) {
    if (!is_url(ask[i]->entry.path.native())) return;
    try {
      const HttpResponse r = send_patiently({.url = ask[i]->entry.path.string(), .method = "HEAD"}, {.tries = 2});
      if (r.ok()) ask[i]->size = content_length(r).value_or(0);
    } catch (const Error&) {
      // Its size stays unknown; fetching tells what is wrong.
    }
  });
  for (const FetchedTile& t : p.tiles) {
    if (t.outcome != FetchOutcome::Fetched) continue;
    p.bytes += t.size;
    p.unknown += t.size == 0;
  }
  std::error_code ec;
  fs::path there = fs::absolute(options.folder);
  while (!fs::exists(there, ec) && there != there.parent_path()) there = there.parent_path();
  p.free_bytes = fs::space(there, ec).available;
  return p;
}

namespace {

// One run of fetching: some threads take tile after tile; what they count and tell is behind one lock.
class Fetching {
 public:
  Fetching(FetchPlan plan, const FetchOptions& options) : options_(options) {
    progress_.files = plan.tiles.size();
    progress_.bytes = plan.unknown ? 0 : plan.bytes;
    report_.tiles = std::move(plan.tiles);
    for (const FetchedTile& t : report_.tiles) {
      if (t.outcome == FetchOutcome::Failed) continue;
      std::error_code ec;
      fs::create_directories(t.path.parent_path(), ec);
      if (!fs::is_directory(t.path.parent_path(), ec))
        throw Error(ErrorCode::Io, "cannot be made", t.path.parent_path().string(), "choose another folder");
      brought_.try_emplace(t.path.parent_path(), t.path.parent_path());
    }
  }

  FetchReport run() {
    {
      std::vector<std::jthread> threads;
      for (int i = 0; i < std::clamp(options_.parallel, 1, 64); ++i) threads.emplace_back([this] { work(); });
    }
    if (stop_) std::rethrow_exception(stop_);
    write_lists(report_, options_.folder);
    report_.seconds = now_seconds() - start_;
    return std::move(report_);
  }

 private:
  void work() {
    for (std::size_t i; (i = next_++) < report_.tiles.size();) {
      FetchedTile& t = report_.tiles[i];
      if (t.outcome == FetchOutcome::Fetched) try {
          bring(t);
        } catch (const std::exception& other) {
          failed(t, other);
        }
      std::lock_guard lock(mutex_);
      ++progress_.done;
      report_.moved += t.moved;
      say(true);
    }
  }

  void bring(FetchedTile& t) {
    Mover mover(options_, [this](std::uint64_t n) {
      std::lock_guard lock(mutex_);
      progress_.moved += n;
      say(false);
    });
    mover.bring(t);
    if (options_.unpack && Archive::is_archive(*open_file(t.path))) {
      const fs::path folder = t.path.parent_path() / name_unpacked(t.path.filename().string());
      t.unpacked = unpack_into(t.path, folder);
      fs::remove(t.path);
      mover.version.unpacked = folder.filename().string();
    }
    std::lock_guard lock(mutex_);
    brought_.at(t.path.parent_path()).add(t.path.filename().string(), mover.version);
    if (!mover.version.unpacked.empty()) t.path = t.path.parent_path() / mover.version.unpacked;
  }

  // Whatever it is, it ends this file and no other, and never the process; a wish to stop concerns all.
  void failed(FetchedTile& t, const std::exception& other) {
    const auto* own = dynamic_cast<const Error*>(&other);
    const Error e = own ? *own : Error(ErrorCode::Io, other.what(), t.path.string());
    t.outcome = FetchOutcome::Failed;
    t.problem = e.problem() + (e.advice().empty() ? "" : "; " + e.advice());
    if (e.code() != ErrorCode::Cancelled) return;
    std::lock_guard lock(mutex_);
    stop_ = std::current_exception();
    next_ = report_.tiles.size();
  }

  void say(bool now) {
    const double t = now_seconds();
    if (!options_.say || (!now && t - told_ < 0.2)) return;
    told_ = t;
    FetchProgress& p = progress_;
    p.per_second = static_cast<double>(p.moved) / std::max(0.1, t - start_);
    if (p.bytes && p.moved && t - start_ > 0.5)
      p.seconds_left = static_cast<double>(p.bytes - std::min(p.bytes, p.moved)) / p.per_second;
    options_.say(p);
  }

  const FetchOptions& options_;
  const double start_ = now_seconds();
  FetchReport report_;
  std::map<fs::path, Brought> brought_;
  std::mutex mutex_;
  FetchProgress progress_{};
  double told_ = 0;
  std::atomic<std::size_t> next_{0};
  std::exception_ptr stop_;
};

}  // namespace

FetchReport fetch_tiles(const std::vector<ShortlistEntry>& entries, const FetchOptions& options) {
  FetchPlan plan = plan_fetch(entries, options);
  if (plan.bytes > plan.free_bytes)
    throw Error(ErrorCode::Io,
                fmt::format("has {} free, and {} are to come", format_bytes(static_cast<double>(plan.free_bytes)),
                            format_bytes(static_cast<double>(plan.bytes))),
                options.folder.string(), "make room or choose another disk");
  return Fetching(std::move(plan), options).run();
}

FetchedTile fetch_file(const ShortlistEntry& entry, const fs::path& path, const FetchOptions& options) {
  FetchedTile t{.entry = entry, .path = path};
  std::error_code ec;
  if (fs::exists(path, ec) && !options.overwrite)
    throw Error(ErrorCode::Io, "exists already", path.string(), "choose another name or say --overwrite");
  Mover(options, [](std::uint64_t) {}).bring(t);
  return t;
}

}  // namespace katoptra
