#include "core/hearing/seal.hpp"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/rand.h>

#include <array>
#include <vector>

namespace heathmist {

namespace {

std::string hex_of(const unsigned char* bytes, size_t count) {
  std::string text;
  for (size_t n = 0; n < count; ++n) text += fmt::format("{:02x}", bytes[n]);
  return text;
}

std::string base64(std::string_view bytes) {
  std::string text(4 * ((bytes.size() + 2) / 3) + 1, '\0');
  const int length = EVP_EncodeBlock(reinterpret_cast<unsigned char*>(text.data()),
                                     reinterpret_cast<const unsigned char*>(bytes.data()), int(bytes.size()));
  text.resize(size_t(length));
  return text;
}

/// Empty where it is no base64.
std::string from_base64(const std::string& text) {
  std::string bytes(3 * (text.size() / 4) + 3, '\0');
  const int length = EVP_DecodeBlock(reinterpret_cast<unsigned char*>(bytes.data()),
                                     reinterpret_cast<const unsigned char*>(text.data()), int(text.size()));
  if (length < 0) return {};
  size_t padding = 0;
  while (padding < 2 && padding < text.size() && text[text.size() - 1 - padding] == '=') ++padding;
  bytes.resize(size_t(length) - std::min(padding, size_t(length)));
  return bytes;
}

}  // namespace

std::string sha256_hex(std::string_view bytes) {
  std::array<unsigned char, 32> digest{};
  unsigned int length = 0;
  if (EVP_Digest(bytes.data(), bytes.size(), digest.data(), &length, EVP_sha256(), nullptr) != 1)
    throw std::runtime_error("the system's library does not know SHA-256");
  return hex_of(digest.data(), length);
}

std::string random_hex(int bytes) {
  std::vector<unsigned char> random(static_cast<size_t>(bytes));
  if (RAND_bytes(random.data(), bytes) != 1) throw std::runtime_error("the system gives no random numbers");
  return hex_of(random.data(), random.size());
}

SealedKey seal(std::string_view key) { return {sha256_hex(key), base64(key)}; }

std::string unseal(const SealedKey& sealed) {
  const std::string key = from_base64(sealed.box);
  if (key.empty() || sha256_hex(key) != sealed.hash)
    throw SealError(
        "its answer key is not the one whose hash was shown before: one of the two was changed; its result "
        "can't be trusted");
  return key;
}

}  // namespace heathmist
