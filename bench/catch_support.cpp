// The tests' browser reports by Catch2; here nothing else of it is used.
#define CATCH_CONFIG_RUNNER
#include <catch2/catch.hpp>
