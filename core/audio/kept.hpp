// Values kept between runs in the cache (cache.hpp), as CBOR (RFC 8949).
#pragma once
#include "core/audio/cache.hpp"
#include "core/json.hpp"

namespace heathmist {

/// What was kept under a name, as `from` makes it of its JSON. Nothing where there is none, and where it cannot be
/// read: what is old or broken is made anew.
template <class From>
auto kept_value(const std::string& name, From from) -> std::optional<decltype(from(Json()))> {
  const auto bytes = read_cache(name);
  if (!bytes) return {};
  try {
    return from(Json::from_cbor(*bytes));
  } catch (const std::exception&) {
    return {};
  }
}

/// A number, or null where there is none. Throws where it is neither.
template <class Number = double>
std::optional<Number> number_from(const Json& json) {
  return json.is_null() ? std::nullopt : std::optional(json.get<Number>());
}

/// Keeps it; under no name, nothing.
inline void keep_value(const std::string& name, const Json& json) {
  const auto bytes = Json::to_cbor(json);
  write_cache(name, std::string(bytes.begin(), bytes.end()));
}

}  // namespace heathmist
