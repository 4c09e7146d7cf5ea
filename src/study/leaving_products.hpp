// What is asked of products of a study in which the surface leaves the house.
#pragma once
#include <optional>

#include "katoptra/base/error.hpp"
#include "katoptra/study/study.hpp"

namespace katoptra {

double width_to_height(const Frame& f);
// What is wrong with such a product, before the surface is made.
std::optional<Error> why_not_leaving(const StudyProduct& p, const Frame& surface);

}  // namespace katoptra
