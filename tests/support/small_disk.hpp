// A disk that is full: no file of this process may grow past a limit while the object lives.
#pragma once
#include <signal.h>
#include <sys/resource.h>

namespace heathmist::test {

class SmallDisk {
 public:
  explicit SmallDisk(rlim_t most_bytes) {
    ::getrlimit(RLIMIT_FSIZE, &before_);
    handler_ = ::signal(SIGXFSZ, SIG_IGN);
    const rlimit small{most_bytes, before_.rlim_max};
    ::setrlimit(RLIMIT_FSIZE, &small);
  }
  ~SmallDisk() {
    ::setrlimit(RLIMIT_FSIZE, &before_);
    ::signal(SIGXFSZ, handler_);
  }
  SmallDisk(const SmallDisk&) = delete;
  SmallDisk& operator=(const SmallDisk&) = delete;

 private:
  rlimit before_{};
  sighandler_t handler_;
};

}  // namespace heathmist::test
