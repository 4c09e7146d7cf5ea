// Kernels marked KATOPTRA_CLONES are compiled again for wider vectors (AVX2, AVX-512) and chosen when the program
// starts. With contraction off, all versions give the same bits. KATOPTRA_FLAT_CLONES: with all that they call, for
// newer machines (AVX2 and the shifts that came with it). The compiler takes a call of them for one that does not
// throw: what may throw gives its exception back (caught()).
#pragma once
#include <cstdint>
#include <exception>

#if defined(__x86_64__) && !defined(KATOPTRA_NO_CLONES)
#define KATOPTRA_CLONES __attribute__((target_clones("arch=x86-64-v4", "avx2", "default")))
#define KATOPTRA_FLAT_CLONES __attribute__((target_clones("arch=x86-64-v3", "default"), flatten))
#else
#define KATOPTRA_CLONES
#define KATOPTRA_FLAT_CLONES
#endif

namespace katoptra {

// Of the body of a kernel that may throw: what it threw.
template <class Body>
std::exception_ptr caught(const Body& body) {
  try {
    body();
  } catch (...) {
    return std::current_exception();
  }
  return nullptr;
}
inline void throw_again(const std::exception_ptr& error) {
  if (error) std::rethrow_exception(error);
}

// Vectors of what compilers make of them, the same bits for every machine. Those of 32 bytes are not returned or
// taken by value: how that is done differs between clones.
using Floats4 [[gnu::vector_size(16)]] = float;
using Floats8 [[gnu::vector_size(32)]] = float;
using Doubles4 [[gnu::vector_size(32)]] = double;
using Integers4 [[gnu::vector_size(32)]] = std::int64_t;

}  // namespace katoptra
