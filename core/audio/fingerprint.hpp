// What a file holds, as a short text: files whose fingerprints are equal hold the same.
#pragma once
#include <filesystem>
#include <string>

namespace heathmist {

/// What a file holds, or one of the sounds in it (sound_name.hpp): the file's size and the 128-bit XXH3 hash of all its
/// bytes, in hexadecimal. Read once: a file whose size, times and inode are as they were keeps its fingerprint. Empty
/// where it cannot be read. From any thread.
std::string fingerprint(const std::filesystem::path& name);

/// Whether a text has the form of a fingerprint; those that were kept by earlier versions said less.
bool is_fingerprint(const std::string& text);

}  // namespace heathmist
