#include "base/secrecy.hpp"

#include <sys/prctl.h>
#include <sys/resource.h>

namespace kw {

void keepOutOfCoreDumps() {
  const rlimit none{0, 0};
  setrlimit(RLIMIT_CORE, &none);
  prctl(PR_SET_DUMPABLE, 0);
}

}  // namespace kw
