// Kernels marked KATOPTRA_CLONES are compiled again for wider vectors (AVX2, AVX-512) and chosen when the program
// starts. With contraction off, all versions give the same bits. KATOPTRA_FLAT_CLONES: with all that they call, for
// newer machines (AVX2 and the shifts that came with it).
#pragma once
#include <cstdint>

#if defined(__x86_64__) && !defined(KATOPTRA_NO_CLONES)
#define KATOPTRA_CLONES __attribute__((target_clones("arch=x86-64-v4", "avx2", "default")))
#define KATOPTRA_FLAT_CLONES __attribute__((target_clones("arch=x86-64-v3", "default"), flatten))
#else
#define KATOPTRA_CLONES
#define KATOPTRA_FLAT_CLONES
#endif

namespace katoptra {

// Vectors of what compilers make of them, the same bits for every machine. Those of 32 bytes are not returned or
// taken by value: how that is done differs between clones.
using Floats4 [[gnu::vector_size(16)]] = float;
using Floats8 [[gnu::vector_size(32)]] = float;
using Doubles4 [[gnu::vector_size(32)]] = double;
using Integers4 [[gnu::vector_size(32)]] = std::int64_t;

}  // namespace katoptra
