#include "core/json.hpp"

#include <fmt/format.h>

#include <fstream>

#include "core/audio/clip.hpp"

namespace heathmist {

namespace {

constexpr uintmax_t most_bytes = uintmax_t(256) << 20;

std::string place_in(std::string_view text, size_t byte) {
  const auto before = text.substr(0, std::min(byte, text.size()));
  const auto line = 1 + std::count(before.begin(), before.end(), '\n');
  const auto start = before.find_last_of('\n');
  return fmt::format("line {}, column {}", line, before.size() - (start == std::string_view::npos ? 0 : start + 1));
}

}  // namespace

Json json_from(std::string_view text) {
  try {
    return Json::parse(text.begin(), text.end(), [](int depth, Json::parse_event_t, Json&) {
      if (depth > most_json_depth) throw JsonError(fmt::format("it is nested more than {} deep", most_json_depth));
      return true;
    });
  } catch (const Json::parse_error& error) {
    throw JsonError(fmt::format("it is no JSON from {} on", place_in(text, error.byte)));
  } catch (const Json::exception&) {  // a number out of any range
    throw JsonError("it is no JSON that can be read: a number in it has no size");
  }
}

Json json_from_file(const std::filesystem::path& file) {
  refuse_unless_plain(file);
  std::error_code ignored;
  if (std::filesystem::file_size(file, ignored) > most_bytes)
    throw InputError(file, "it is larger than any bench or chain; name another file");
  std::ifstream in(file, std::ios::binary);
  const std::string text{std::istreambuf_iterator<char>(in), {}};
  if (!in && !in.eof()) throw InputError(file, "it cannot be read to its end; check the disk");
  return json_from(text);
}

std::string text_of(const Json& json, int indent) {
  return json.dump(indent, ' ', false, Json::error_handler_t::replace);
}

}  // namespace heathmist
