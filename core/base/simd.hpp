// Functions marked KW_VECTOR are compiled once more for AVX2 and chosen when the program loads.
#pragma once

#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) && \
    !defined(__SANITIZE_THREAD__) && defined(__OPTIMIZE__)
#define KW_VECTOR __attribute__((target_clones("avx2", "default"), optimize("O3")))
#else
#define KW_VECTOR
#endif
