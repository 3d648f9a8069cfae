// Text as it stands in HTML and SVG.
#pragma once
#include <string>
#include <string_view>

namespace heathmist {

/// The four characters that mean something there as entities; fit for elements and for attributes in double quotes.
inline std::string html_text(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else if (c == '"')
      out += "&quot;";
    else
      out += c;
  }
  return out;
}

}  // namespace heathmist
