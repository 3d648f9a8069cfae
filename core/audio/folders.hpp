// The user's own folders (XDG Base Directory Specification); each is made where it is not there.
#pragma once
#include <filesystem>

namespace heathmist {

/// `$XDG_CONFIG_HOME/heathmist`, or `~/.config/heathmist`.
std::filesystem::path config_folder();

}  // namespace heathmist
