// A [[product]] of a study.
#pragma once
#include <string>
#include <toml++/toml.h>

#include "katoptra/study/study.hpp"

namespace katoptra {

// `s`: what of the study has been read already.
StudyProduct read_product(const toml::table* table, const std::string& file, const Study& s);

}  // namespace katoptra
