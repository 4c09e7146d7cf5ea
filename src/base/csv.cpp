#include "csv.hpp"

namespace katoptra {

std::vector<std::vector<std::string>> parse_csv(std::string_view text, char separator) {
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  std::vector<std::vector<std::string>> rows;
  std::vector<std::string> row;
  std::string field;
  bool quoted = false, any = false;
  auto end_row = [&] {
    if (any || !field.empty() || !row.empty()) {
      row.push_back(std::move(field));
      rows.push_back(std::move(row));
    }
    row.clear();
    field.clear();
    any = false;
  };
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quoted) {
      if (c != '"')
        field += c;
      else if (i + 1 < text.size() && text[i + 1] == '"')
        field += text[++i];
      else
        quoted = false;
    } else if (c == '"' && field.empty()) {
      quoted = any = true;
    } else if (c == separator) {
      row.push_back(std::move(field));
      field.clear();
      any = true;
    } else if (c == '\n') {
      end_row();
    } else if (c != '\r') {
      field += c;
    }
  }
  end_row();
  return rows;
}

std::string csv_field(std::string_view text) {
  if (text.find_first_of(",\"\n\r") == text.npos) return std::string(text);
  std::string out = "\"";
  for (char c : text) out += c == '"' ? std::string("\"\"") : std::string(1, c);
  return out + "\"";
}

}  // namespace katoptra
