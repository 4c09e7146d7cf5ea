// Comma-separated text, quoted as RFC 4180 says.
#pragma once
#include <string>
#include <string_view>
#include <vector>

namespace katoptra {

std::vector<std::vector<std::string>> parse_csv(std::string_view text, char separator = ',');
std::string csv_field(std::string_view text);

}  // namespace katoptra
