// What check and compare share.
#pragma once
#include "katoptra/check/control.hpp"

#include "common.hpp"

namespace katoptra::cli {

// Tables of errors, one line each.
std::string errors_header(const std::string& first);
std::string errors_row(const std::string& name, const ErrorStatistics& s);
std::string control_text(const ControlReport& r);
void add_check(CLI::App& app, int& status);

}  // namespace katoptra::cli
