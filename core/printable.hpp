// Text from outside (names of files, what programs said) as it may be shown: on one line, and harmless to a terminal.
#pragma once
#include <filesystem>
#include <string>
#include <string_view>

namespace heathmist {

/// UTF-8 without control characters: those, line ends and marks that turn the direction of writing become \x1b, \n or
/// \u202e as they are written in C; bytes that are no UTF-8 become U+FFFD.
std::string printable(std::string_view bytes);
std::string printable(const std::filesystem::path& file);
inline std::string printable(const std::string& bytes) { return printable(std::string_view(bytes)); }
inline std::string printable(const char* bytes) { return printable(std::string_view(bytes)); }

/// Whether it is UTF-8 throughout.
bool is_utf8(std::string_view bytes);

}  // namespace heathmist
