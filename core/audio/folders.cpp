#include "core/audio/folders.hpp"

#include <cstdlib>

#include "core/audio/temporary.hpp"

namespace heathmist {

std::filesystem::path config_folder() {
  const char *wanted = std::getenv("XDG_CONFIG_HOME"), *home = std::getenv("HOME");
  const std::filesystem::path base = wanted && *wanted ? std::filesystem::path(wanted)
                                     : home && *home   ? std::filesystem::path(home) / ".config"
                                                       : temporary_folder();
  std::error_code ignored;
  std::filesystem::create_directories(base / "heathmist", ignored);
  return base / "heathmist";
}

}  // namespace heathmist
