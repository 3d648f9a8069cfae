// What this user has allowed on this machine: stages that run a program or load a plug-in, each by its whole content,
// and folders in which encoded files may be kept. It lies in the user's configuration and goes with no bench.
#pragma once
#include <filesystem>

#include "core/stages/chain.hpp"

namespace heathmist {

/// `$XDG_CONFIG_HOME/heathmist/armed.json`, to be read and written by this user alone.
std::filesystem::path armed_file();

/// Allows what a stage would do from now on: this very program or plug-in with these values; for a file that is kept,
/// its folder. Throws InputError where that cannot be remembered.
void arm(const Stage& stage);

/// Takes all leave back.
void disarm_everything();

/// What is allowed now; later changes do not reach what is handed out. A file that cannot be read allows nothing.
Grant grant_here();

}  // namespace heathmist
