// Running another program, without a shell.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "core/job.hpp"

namespace heathmist {

struct Ended {
  int status = 0;  ///< its exit status; 128 + signal where it was killed
  bool timed_out = false;
  bool not_found = false;
  std::string said;  ///< the last of what it wrote to its outputs, up to 2000 bytes
};

/// Runs words[0] with the rest as arguments in `folder` and waits. Stopped with all its children after `limit_s`
/// or when the job is cancelled (then Cancelled is thrown).
Ended run_program(const std::vector<std::string>& words, const std::filesystem::path& folder, double limit_s,
                  const Job& job);

/// A command line as words: blanks part them, single and double quotes hold them together, a backslash takes the next
/// character as it is. Throws std::invalid_argument where a quote is left open.
std::vector<std::string> words_of_command(const std::string& command);

}  // namespace heathmist
