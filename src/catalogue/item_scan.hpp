// The items of a large ItemCollection one after the other, without reading it as a whole.
#pragma once
#include <cstdint>
#include <functional>
#include <string>
#include <string_view>

#include "katoptra/formats/bytes.hpp"

namespace katoptra {

// Calls body with batches of about `batch` bytes of whole items, as they stand (a batch is a list of views that live
// until the call returns). BadFile when the file is no FeatureCollection.
void for_each_item_batch(
    const ByteSource& file, std::size_t batch,
    const std::function<void(std::shared_ptr<const std::string> text, std::vector<std::string_view> items)>& body);

// What the index needs of an item.
struct ItemKeys {
  std::string id, collection;
  float west = 0, south = 0, east = 0, north = 0;  // rounded outwards; east may lie beyond 180
  bool placed = false;
};
// BadFile when it is no item.
ItemKeys keys_of_item(std::string_view item, const std::string& where);

}  // namespace katoptra
