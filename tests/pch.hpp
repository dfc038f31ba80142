#pragma once
#include <boost/asio/awaitable.hpp>
#include <catch2/catch.hpp>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>
