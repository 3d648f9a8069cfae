// An answer key that is fixed before the first answer: its hash is shown at once, itself when all is answered. Whoever
// has both can tell that neither was changed (printf '%s' KEY | sha256sum).
//
// It is kept against a glance and against change, not against somebody who takes the file apart.
#pragma once
#include <stdexcept>
#include <string>
#include <string_view>

namespace heathmist {

struct SealedKey {
  std::string hash;  ///< SHA-256 of the key (FIPS 180-4), 64 hexadecimal digits
  std::string box;   ///< the key in base64 (RFC 4648)
  bool operator==(const SealedKey&) const = default;
};

/// A key that is not the one its hash was shown for. what() is a sentence.
struct SealError : std::runtime_error {
  using std::runtime_error::runtime_error;
};

SealedKey seal(std::string_view key);
/// Throws SealError.
std::string unseal(const SealedKey& sealed);

std::string sha256_hex(std::string_view bytes);
/// So many random bytes of the system's, hexadecimal.
std::string random_hex(int bytes);

}  // namespace heathmist
