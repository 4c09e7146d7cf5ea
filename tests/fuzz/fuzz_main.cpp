// The entry of libFuzzer; KATOPTRA_FUZZ_TARGET names the reader.
#include "targets.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const auto target = katoptra::fuzz::targets().at(KATOPTRA_FUZZ_TARGET);
  target({data, size});
  return 0;
}
