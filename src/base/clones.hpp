// Kernels marked KATOPTRA_CLONES are compiled once more for wider vectors and chosen when the program starts. With
// contraction off, both versions give the same bits.
#pragma once
#if defined(__x86_64__) && !defined(KATOPTRA_NO_CLONES)
#define KATOPTRA_CLONES __attribute__((target_clones("avx2", "default")))
#else
#define KATOPTRA_CLONES
#endif
