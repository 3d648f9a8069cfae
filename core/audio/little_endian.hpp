// Whole numbers as the chunks of a WAV file hold them.
#pragma once
#include <cstdint>
#include <string>

namespace heathmist {

/// Appends the lowest `length` bytes of a number, the lowest first.
inline void put_little_endian(std::string& bytes, uint64_t value, int length) {
  for (int n = 0; n < length; ++n) bytes += char(value >> (8 * n));
}

}  // namespace heathmist
