// Counts what comes over the network.
#pragma once
#include <cstdint>

namespace katoptra {

void count_request();
void count_bytes(std::uint64_t bytes);
void count_file(std::uint64_t bytes);

}  // namespace katoptra
