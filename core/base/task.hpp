// Coroutines of the core. A Task<T> is started by awaiting it or by spawn() (base/runtime.hpp).
#pragma once
#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/this_coro.hpp>

namespace kw {

namespace asio = boost::asio;
using Executor = asio::any_io_executor;
template <typename T = void>
using Task = asio::awaitable<T>;

}  // namespace kw
