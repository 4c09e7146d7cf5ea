// What is asked of products of a study in which the surface leaves the house.
#pragma once
#include <optional>

#include "katoptra/base/error.hpp"
#include "katoptra/study/study.hpp"

namespace katoptra {

double width_to_height(const Frame& f);
// Null when no product of the study has that file.
const StudyProduct* product_of(const Study& s, const std::string& file);
// Lines or areas, which a map can draw.
bool is_drawn(const StudyProduct& p);
// What is wrong with such a product, before the surface is made.
std::optional<Error> why_not_leaving(const StudyProduct& p, const Frame& surface);

}  // namespace katoptra
