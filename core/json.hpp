// JSON in and out, as every document, chain, outlet and answer is read and written: never deeper than documents are,
// and never a name that breaks the writing.
#pragma once
#include <filesystem>
#include <nlohmann/json.hpp>
#include <stdexcept>
#include <string>
#include <string_view>

namespace heathmist {

using Json = nlohmann::ordered_json;

/// Text that is no JSON, or nests deeper than `most_json_depth`. what() says which and where, without a file's name.
struct JsonError : std::runtime_error {
  using std::runtime_error::runtime_error;
};
inline constexpr int most_json_depth = 64;

/// Throws JsonError.
Json json_from(std::string_view text);

/// The same from a file. Throws InputError where it is no plain file, cannot be read or is over 256 MiB; JsonError.
Json json_from_file(const std::filesystem::path& file);

/// As text, two blanks a level (indent < 0: one line). Bytes that are no UTF-8 come out as U+FFFD.
std::string text_of(const Json& json, int indent = 2);

}  // namespace heathmist
