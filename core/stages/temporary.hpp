// A folder that goes away. Inside core/stages only.
#pragma once
#include <cstdlib>

#include "core/stages/chain.hpp"

namespace heathmist {

class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::string name = (std::filesystem::temp_directory_path() / "heathmist-XXXXXX").string();
    if (!::mkdtemp(name.data()))
      throw ChainError("no temporary folder can be made; free disk space or point TMPDIR elsewhere");
    path_ = name;
  }
  ~TemporaryFolder() {
    std::error_code ignored;
    std::filesystem::remove_all(path_, ignored);
  }
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;
  const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

}  // namespace heathmist
