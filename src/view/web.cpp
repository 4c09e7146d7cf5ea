#include "web.hpp"

#include <algorithm>
#include <cassert>
#include <filesystem>
#include <fmt/format.h>
#include <regex>
#include <set>

#include "katoptra/base/error.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace {

class Joiner {
 public:
  explicit Joiner(std::string_view (*part)(std::string_view)) : part_(part) {}

  std::string joined(const std::string& entry) {
    add(entry, {});
    return std::move(text_);
  }

 private:
  static std::string name_of_module(const std::string& path) {
    std::string name = "$";
    for (const char c : path) name += std::isalnum(static_cast<unsigned char>(c)) ? c : '_';
    return name;
  }

  void add(const std::string& path, std::vector<std::string> above) {
    if (std::find(above.begin(), above.end(), path) != above.end())
      throw Error(ErrorCode::BadFile, "a module needs itself", path);
    if (!done_.insert(path).second) return;
    above.push_back(path);
    std::string body, exported;
    const std::string_view text = part_(path);
    for (std::size_t at = 0; at < text.size();) {
      const std::size_t end = std::min(text.find('\n', at), text.size());
      take(trimmed(std::string(text.substr(at, end - at))), text[at] == ' ', path, above, body, exported);
      at = end + 1;
    }
    text_ += fmt::format("const {} = (() => {{\n{}return {{{}}};\n}})();\n", name_of_module(path), body, exported);
  }

  void take(std::string line, bool indented, const std::string& path, const std::vector<std::string>& above,
            std::string& body, std::string& exported) {
    static const std::regex import(R"(import (\{ [\w, ]+ \}) from '(\.{1,2}/[\w./]+)';)"),
        export_name(R"(export ((async )?function\*?|const|class) (\w+).*)");
    if (line.empty() || line.starts_with("//")) return;
    std::smatch m;
    if (!indented && line.starts_with("import ")) {
      if (!std::regex_match(line, m, import))
        throw Error(ErrorCode::BadFile, "an import of another kind: " + line, path);
      const std::string from =
          (std::filesystem::path(path).parent_path() / m[2].str()).lexically_normal().generic_string();
      add(from, above);
      static const std::regex renames(" as ");
      body += fmt::format("const {} = {};\n", std::regex_replace(m[1].str(), renames, ": "), name_of_module(from));
      return;
    }
    if (!indented && line.starts_with("export ")) {
      if (!std::regex_match(line, m, export_name))
        throw Error(ErrorCode::BadFile, "an export of another kind: " + line, path);
      exported += (exported.empty() ? "" : ", ") + m[3].str();
      line.erase(0, std::string_view("export ").size());
    }
    body += line + "\n";
  }

  std::string_view (*part_)(std::string_view);
  std::set<std::string> done_;
  std::string text_;
};

}  // namespace

std::string_view web_part(std::string_view name) {
  const auto& parts = web_parts();
  const auto found = std::find_if(parts.begin(), parts.end(), [&](const WebPart& p) { return p.name == name; });
  assert(found != parts.end());
  return found->text;
}

std::string joined_modules(const std::string& entry) { return joined_modules(entry, web_part); }

std::string joined_modules(const std::string& entry, std::string_view (*part)(std::string_view)) {
  return Joiner(part).joined(entry);
}

}  // namespace katoptra
