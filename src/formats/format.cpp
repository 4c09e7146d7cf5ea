#include "katoptra/formats/format.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "format_row.hpp"

namespace katoptra {
namespace fs = std::filesystem;

bool Format::holds(Holds what, Use use) const {
  const std::vector<Holds>& list = use == Use::Read ? read : written;
  return std::find(list.begin(), list.end(), what) != list.end();
}

bool Format::ends(std::string_view file) const {
  const std::string n = lower_case(std::string(file));
  return std::any_of(endings.begin(), endings.end(),
                     [&](const std::string& e) { return n.size() > e.size() && n.ends_with(e); });
}

bool has_ending(const std::filesystem::path& path, std::string_view ending) {
  return lower_case(path.filename().string()).ends_with(ending);
}

const std::vector<Format>& formats() {
  static const std::vector<Format> all = [] {
    std::vector<Format> f;
    for (const FormatRow& r : format_rows()) f.push_back(r.facts);
    return f;
  }();
  return all;
}

const Format* format_of(const fs::path& path) {
  const std::string file = path.filename().string();
  for (const Format& f : formats())
    if (f.ends(file)) return &f;
  return nullptr;
}

const Format* format_of(const fs::path& path, Holds holds, Use use) {
  const std::string file = path.filename().string();
  for (const Format& f : formats())
    if (f.holds(holds, use) && f.ends(file)) return &f;
  return nullptr;
}

const Format* format_of_media(std::string_view type) {
  const std::string t = lower_case(std::string(type));
  // The longest word wins: "laszip" says more than "las" or "zip".
  const Format* best = nullptr;
  for (const Format& f : formats())
    if (!f.media_word.empty() && t.find(f.media_word) != t.npos &&
        (!best || f.media_word.size() > best->media_word.size()))
      best = &f;
  return best;
}

std::string endings_of(Holds holds, Use use) {
  std::string list;
  for (const Format& f : formats())
    if (f.holds(holds, use))
      for (const std::string& e : f.endings) list += (list.empty() ? "" : ", ") + e;
  return list;
}

std::string endings_of_lines() {
  std::string list;
  for (const Format& f : formats())
    if (f.holds(Holds::Features, Use::Written) && !f.points_only)
      for (const std::string& e : f.endings) list += (list.empty() ? "" : ", ") + e;
  return list;
}

std::vector<fs::path> files_beside(const fs::path& path) {
  std::vector<std::string> endings;
  if (const Format* f = format_of(path)) {
    endings = f->beside;
  } else {
    for (const Format& any : formats()) endings.insert(endings.end(), any.beside.begin(), any.beside.end());
    std::sort(endings.begin(), endings.end());
    endings.erase(std::unique(endings.begin(), endings.end()), endings.end());
  }
  std::vector<fs::path> out;
  std::error_code ec;
  for (const std::string& e : endings) {
    std::string upper = e;
    for (char& c : upper) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    for (const fs::path& p :
         {fs::path(path).replace_extension(e), fs::path(path).replace_extension(upper), fs::path(path.string() + e)})
      if (p != path && fs::is_regular_file(p, ec) && std::find(out.begin(), out.end(), p) == out.end())
        out.push_back(p);
  }
  return out;
}

}  // namespace katoptra
