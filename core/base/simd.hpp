// Functions marked KW_VECTOR are compiled once more for AVX2, those marked KW_BITS for machines that shift
// and count bits faster; the right one is chosen when the program loads. What they call must be KW_INLINE to
// be compiled so, too.
#pragma once

#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) && \
    !defined(__SANITIZE_THREAD__) && defined(__OPTIMIZE__)
#define KW_VECTOR __attribute__((target_clones("avx2", "default"), optimize("O3")))
#define KW_BITS __attribute__((target_clones("arch=haswell", "default")))
#else
#define KW_VECTOR
#define KW_BITS
#endif

#define KW_INLINE __attribute__((always_inline))

#if defined(__x86_64__)
/// Written for AVX2 by hand; whoever calls it has asked the machine.
#define KW_AVX2 __attribute__((target("avx2")))
#endif
