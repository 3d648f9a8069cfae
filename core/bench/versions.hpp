// Versions of a master: it was exported anew, as another file. What came back of the one before is out of date; what
// a chain makes of it is made anew by itself.
//
//   take_new_version(master, {"mill-race v2.wav", {}});
//   if (is_out_of_date(master, trial)) ...
#pragma once
#include "core/bench/document.hpp"
#include "core/compare/null.hpp"

namespace heathmist {

/// 1 for one that was never exported anew.
int version_of(const Master& master);
/// The file becomes the master; the one before stays as a return of the new one, so that what has changed between them
/// is a null of its own. Returns that trial's id.
std::string take_new_version(Master& master, const FileRef& now);
/// It came back from an earlier version.
bool is_out_of_date(const Master& master, const Trial& trial);
/// The sentence that says so; nothing where it is not.
std::optional<Finding> finding_of_version(const Master& master, const Trial& trial);

}  // namespace heathmist
