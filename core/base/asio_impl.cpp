// The one place where Asio's own code is compiled.
#include <boost/asio/impl/src.hpp>
