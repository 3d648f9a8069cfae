#include "core/printable.hpp"

#include <fmt/format.h>

#include <cstdint>

namespace heathmist {

namespace {

struct Character {
  uint32_t code = 0xfffd;
  size_t bytes = 1;
  bool valid = false;
};

/// The first character of a text (RFC 3629: no overlong forms, no surrogates, nothing above U+10FFFF).
Character first_of(std::string_view text) {
  const auto byte = [&](size_t n) { return n < text.size() ? uint8_t(text[n]) : uint8_t(0); };
  const uint8_t lead = byte(0);
  if (lead < 0x80) return {lead, 1, true};
  const size_t length = lead >= 0xf0 ? 4 : lead >= 0xe0 ? 3 : 2;
  if (lead < 0xc2 || lead > 0xf4) return {};
  uint32_t code = lead & (0xffu >> (length + 1));
  for (size_t n = 1; n < length; ++n) {
    if ((byte(n) & 0xc0) != 0x80) return {};
    code = code << 6 | (byte(n) & 0x3f);
  }
  constexpr uint32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
  if (code < least[length] || code > 0x10ffff || (code >= 0xd800 && code <= 0xdfff)) return {};
  return {code, length, true};
}

bool turns_direction(uint32_t code) {
  return (code >= 0x202a && code <= 0x202e) || (code >= 0x2066 && code <= 0x2069) || code == 0x200e || code == 0x200f;
}

}  // namespace

std::string printable(std::string_view bytes) {
  std::string text;
  while (!bytes.empty()) {
    const Character c = first_of(bytes);
    if (!c.valid)
      text += "\xef\xbf\xbd";
    else if (c.code == '\n' || c.code == '\r' || c.code == '\t')
      text += c.code == '\n' ? "\\n" : c.code == '\r' ? "\\r" : "\\t";
    else if (c.code < 0x20 || (c.code >= 0x7f && c.code < 0xa0))
      text += fmt::format("\\x{:02x}", c.code);
    else if (turns_direction(c.code) || c.code == 0x2028 || c.code == 0x2029)
      text += fmt::format("\\u{:04x}", c.code);
    else
      text += bytes.substr(0, c.bytes);
    bytes.remove_prefix(c.bytes);
  }
  return text;
}

std::string printable(const std::filesystem::path& file) { return printable(std::string_view(file.native())); }

bool is_utf8(std::string_view bytes) {
  while (!bytes.empty()) {
    const Character c = first_of(bytes);
    if (!c.valid) return false;
    bytes.remove_prefix(c.bytes);
  }
  return true;
}

}  // namespace heathmist
