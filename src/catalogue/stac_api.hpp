// The client of a STAC API (1.0: core, item search, and the filter extension with CQL2 JSON where it is declared).
#pragma once
#include <string>

#include "katoptra/catalogue/catalogue.hpp"

#include "stac_json.hpp"

namespace katoptra {

// Is this landing page one of a service that can be searched?
bool is_stac_api(const json& landing);
Catalogue search_stac_api(const std::string& address, const json& landing, const CatalogueQuery& query,
                          const CatalogueOptions& options);

}  // namespace katoptra
