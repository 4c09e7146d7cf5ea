#include "located.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <list>
#include <mutex>
#include <sys/stat.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/http.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using ArchivePointer = std::shared_ptr<const Archive>;

// Archives stay open for a while: a folder of tiles is often one archive, and what was unpacked should serve them all.
struct KeptArchive {
  std::string key;
  ArchivePointer archive;
};
ArchivePointer open_kept(const std::string& key, const std::function<ArchivePointer()>& make) {
  static std::mutex mutex;
  static std::list<KeptArchive> kept;
  constexpr std::size_t kMost = 4;
  {
    std::lock_guard lock(mutex);
    for (auto it = kept.begin(); it != kept.end(); ++it)
      if (it->key == key) {
        kept.splice(kept.begin(), kept, it);
        return it->archive;
      }
  }
  ArchivePointer archive = make();
  std::lock_guard lock(mutex);
  kept.push_front({key, archive});
  if (kept.size() > kMost) kept.pop_back();
  return archive;
}

std::string key_of(const fs::path& path) {
  struct stat st {};
  if (::stat(path.c_str(), &st) != 0) return path.string();
  return fmt::format("{}|{}|{}|{}.{}", path.string(), st.st_ino, st.st_size, st.st_mtim.tv_sec, st.st_mtim.tv_nsec);
}

struct OpenArchive {
  ArchivePointer archive;
  fs::path path;    // as it is named
  std::string key;  // for keeping it
  fs::path on_disk;
  std::string kind;
};

std::string kind_from(const fs::path& path) {
  const std::string name = lower_case(path.filename().string()), ext = lower_extension(path);
  if (name.ends_with(".tar.gz") || ext == ".tgz") return "tar.gz";
  return ext.empty() ? "archive" : ext.substr(1);
}

OpenArchive archive_on_disk(const fs::path& path) {
  const std::string key = key_of(path);
  return {open_kept(key, [&] { return Archive::open(open_file(path)); }), path, key, path, kind_from(path)};
}
OpenArchive open_inside(const OpenArchive& outer, const std::string& entry) {
  const std::string key = outer.key + "/" + entry;
  return {open_kept(key, [&] { return Archive::open(outer.archive->open_entry(entry)); }), outer.path / entry, key,
          outer.on_disk, outer.kind + ", " + kind_from(entry)};
}

Located entry_of(const OpenArchive& a, const std::string& entry) {
  const fs::path inner = entry;
  Located l{a.archive->open_entry(entry), inner.filename().string(), {}, {}, a.on_disk, a.kind};
  l.beside = [archive = a.archive, folder = inner.parent_path()](const std::string& name) {
    const std::string wanted = folder.empty() ? name : (folder / name).string();
    return archive->has(wanted) ? archive->open_entry(wanted) : nullptr;
  };
  return l;
}

using IsWanted = bool (*)(const std::string& name);
bool is_survey_name(const std::string& name) { return is_grid_name(name) || is_point_name(name); }

// Calls body(archive, entry) for every file of that kind in it and in the archives inside.
void each_grid(const OpenArchive& a, int depth, IsWanted is_wanted,
               const std::function<void(const OpenArchive&, const std::string&)>& body) {
  for (const ArchiveEntry& e : a.archive->entries()) {
    if (is_wanted(e.name)) {
      body(a, e.name);
    } else if (is_archive_name(e.name) && depth < kMostNested) {
      // What only has the name of an archive is no grid either.
      try {
        each_grid(open_inside(a, e.name), depth + 1, is_wanted, body);
      } catch (const Error& error) {
        if (error.code() != ErrorCode::BadFile) throw;
      }
    }
  }
}

Located the_grid_in(const OpenArchive& a) {
  std::vector<std::pair<OpenArchive, std::string>> found;
  each_grid(a, 0, is_survey_name, [&](const OpenArchive& in, const std::string& e) { found.emplace_back(in, e); });
  if (found.size() == 1) return entry_of(found[0].first, found[0].second);
  // One compressed file is what it is, whatever its name.
  if (found.empty() && a.archive->entries().size() == 1 && !is_archive_name(a.archive->entries()[0].name))
    return entry_of(a, a.archive->entries()[0].name);
  if (found.empty())
    throw Error(ErrorCode::BadFile, "the archive holds no grid or points in a format that is read here",
                a.path.string(), "look into it and unpack what you need");
  std::string names;
  for (std::size_t i = 0; i < found.size() && i < 4; ++i)
    names += fmt::format("{}{}", i ? ", " : "", (found[i].first.path / found[i].second).string());
  throw Error(ErrorCode::Unsupported,
              fmt::format("the archive holds {} files: {}{}", found.size(), names, found.size() > 4 ? " ..." : ""),
              a.path.string(), "name one of them like that");
}

// The archive on the disk that a path leads into, and the rest of the path; nullopt when there is none.
std::optional<std::pair<fs::path, std::string>> split(const fs::path& path) {
  std::error_code ec;
  const bool remote = is_url(path.native());
  for (fs::path at = path.parent_path(), last; !at.empty() && at != last; last = at, at = at.parent_path()) {
    if (remote && is_archive_name(url_file_name(at.native())))
      return std::pair{at, path.native().substr(at.native().size() + 1)};
    if (remote || !fs::exists(at, ec)) continue;
    if (!fs::is_regular_file(at, ec)) return std::nullopt;
    return std::pair{at, path.lexically_relative(at).generic_string()};
  }
  return std::nullopt;
}

// Follows the rest of a path through archives inside archives.
Located follow(OpenArchive a, std::string rest) {
  for (int depth = 0; depth <= kMostNested; ++depth) {
    if (a.archive->has(rest)) {
      auto bytes = a.archive->open_entry(rest);
      if (Archive::is_archive(*bytes) && !is_survey_name(rest)) return the_grid_in(open_inside(a, rest));
      return entry_of(a, rest);
    }
    std::optional<std::string> inner;
    for (const ArchiveEntry& e : a.archive->entries())
      if (rest.starts_with(e.name + "/")) inner = e.name;
    if (!inner) break;
    a = open_inside(a, *inner);
    rest = rest.substr(inner->size() + 1);
  }
  throw Error(ErrorCode::Io, fmt::format("there is no '{}' in it", rest), a.path.string(), "check the path");
}

}  // namespace

bool is_archive_name(const std::string& name) {
  const Format* f = format_of(name);
  return f && f->holds(Holds::Files, Use::Read);
}

bool is_grid_name(const std::string& name) {
  const std::string file = fs::path(name).filename().string();
  if (file.starts_with(".") || file.find(".lineage.") != file.npos) return false;
  const Format* f = format_of(file, Holds::Grids);
  return f && !f->shares_ending;
}

bool is_point_name(const std::string& name) {
  const std::string file = fs::path(name).filename().string();
  const Format* f = file.starts_with(".") ? nullptr : format_of(file, Holds::Points);
  return f && f->sure;
}

std::shared_ptr<ByteSource> Located::with_extension(const std::string& extension) const {
  std::string upper = extension;
  std::transform(upper.begin(), upper.end(), upper.begin(),
                 [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  const std::string stem = fs::path(name).stem().string();
  for (const std::string& wanted : {stem + extension, stem + upper, name + extension}) {
    if (wanted == name) continue;
    if (auto found = beside(wanted)) return found;
  }
  return nullptr;
}

std::optional<std::string> Located::text_with_extension(const std::string& extension) const {
  const auto found = with_extension(extension);
  if (!found || found->size() > (std::size_t{1} << 20)) return std::nullopt;
  return read_text(*found);
}

namespace {

// What may lie beside a remote file is asked for only where the file cannot do without: each question is a request.
Located remote_file(std::shared_ptr<ByteSource> bytes, const fs::path& url) {
  Located l{std::move(bytes), url_file_name(url.native()), {}, url, url, {}};
  const Format* format = format_of(l.name);
  const bool alone = format && format->alone;
  l.beside = [base = url.native(), alone](const std::string& name) -> std::shared_ptr<ByteSource> {
    if (alone) return nullptr;
    try {
      return open_url(resolve_url(base, percent_encoded(name)));
    } catch (const Error& e) {
      if (e.code() == ErrorCode::Network) throw;
      return nullptr;
    }
  };
  return l;
}

}  // namespace

Located as_it_stands(std::shared_ptr<ByteSource> bytes, const fs::path& path) {
  if (is_url(path.native())) return remote_file(std::move(bytes), path);
  Located l{std::move(bytes), path.filename().string(), {}, path, path, {}};
  l.beside = [folder = path.parent_path()](const std::string& name) -> std::shared_ptr<ByteSource> {
    std::error_code missing;
    const fs::path other = folder / name;
    if (!fs::is_regular_file(other, missing) || fs::file_size(other, missing) == 0) return nullptr;
    return open_file(other);
  };
  return l;
}

Located locate(const fs::path& path) {
  std::error_code ec;
  if (!fs::exists(path, ec))
    if (const auto parts = split(path)) {
      if (!Archive::is_archive(*open_file(parts->first)))
        throw Error(ErrorCode::Io, "is a file and no archive, so nothing lies inside", parts->first.string(),
                    "check the path");
      return follow(archive_on_disk(parts->first), parts->second);
    }
  auto bytes = open_file(path);
  if (Archive::is_archive(*bytes)) return the_grid_in(archive_on_disk(path));
  return as_it_stands(std::move(bytes), path);
}

namespace {
std::vector<fs::path> files_behind(const fs::path& path, IsWanted is_wanted) {
  std::error_code ec;
  const bool there =
      is_url(path.native()) ? is_archive_name(url_file_name(path.native())) : fs::is_regular_file(path, ec);
  if (!there || !Archive::is_archive(*open_file(path))) return {path};
  std::vector<fs::path> out;
  each_grid(archive_on_disk(path), 0, is_wanted,
            [&](const OpenArchive& a, const std::string& e) { out.push_back(a.path / e); });
  if (out.empty()) return {path};
  return out;
}
}  // namespace

std::vector<fs::path> grids_behind(const fs::path& path) { return files_behind(path, is_grid_name); }

std::vector<fs::path> points_behind(const fs::path& path) {
  std::error_code ec;
  if (!fs::is_directory(path, ec)) return files_behind(path, is_point_name);
  std::vector<fs::path> out;
  for (const auto& entry : fs::directory_iterator(path))
    if (entry.is_regular_file(ec) && is_point_name(entry.path().filename().string())) out.push_back(entry.path());
  std::sort(out.begin(), out.end());
  return out;
}

}  // namespace katoptra
