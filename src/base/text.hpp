// Small things done to names in several rooms.
#pragma once
#include <algorithm>
#include <cctype>
#include <filesystem>
#include <string>

namespace katoptra {

inline std::string lower_case(std::string s) {
  std::transform(s.begin(), s.end(), s.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return s;
}

// Without blanks, tabs and line ends before and behind.
inline std::string trimmed(const std::string& s) {
  const auto first = s.find_first_not_of(" \t\r\n"), last = s.find_last_not_of(" \t\r\n");
  return first == s.npos ? "" : s.substr(first, last - first + 1);
}

// For text between the tags of XML, and in attributes; letters that XML does not know are left out.
inline std::string xml_text(const std::string& s) {
  std::string out;
  for (const char c : s) switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        if (static_cast<unsigned char>(c) >= 0x20 || c == '\n' || c == '\t') out += c;
    }
  return out;
}

// ".tif" for "DEM.TIF"
inline std::string lower_extension(const std::filesystem::path& path) { return lower_case(path.extension().string()); }

}  // namespace katoptra
