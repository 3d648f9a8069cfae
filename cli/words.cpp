// Words of a call that more than one verb takes.
#include <fmt/ranges.h>

#include <charconv>

#include "cli/verbs.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

void add_range(CLI::App& verb, Range& range) {
  verb.add_option("--listen", range.listen, "all, mid, side, or a channel's number from 1")->capture_default_str();
  verb.add_option("--from", range.from_s, "start of what is measured, in s")->check(between(0, 1e7, "s"));
  verb.add_option("--to", range.to_s, "its end, in s")->check(between(0, 1e7, "s"));
}

MeterOptions listening(const std::string& words) {
  using Listen = MeterOptions::Listen;
  MeterOptions options;
  if (words == "all") return options;
  if (words == "mid" || words == "side") {
    options.listen = words == "mid" ? Listen::mid : Listen::side;
    return options;
  }
  int channel = 0;
  const char* end = words.data() + words.size();
  if (std::from_chars(words.data(), end, channel).ptr != end || channel < 1)
    throw std::invalid_argument(fmt::format("--listen takes all, mid, side or a channel's number, not '{}'", words));
  options.listen = Listen::one;
  options.channel = channel - 1;
  return options;
}

void check(const Range& range) {
  listening(range.listen);
  if (range.to_s >= 0 && range.to_s <= range.from_s)
    throw std::invalid_argument(
        fmt::format("--to is {:g} s, which is not after --from {:g} s; name a later one", range.to_s, range.from_s));
}

std::pair<int64_t, int64_t> frames_of(const Range& range, const Source& source, const ClipFormat& format) {
  const double rate = format.sample_rate_hz;
  const auto first = int64_t(range.from_s * rate);
  if (first >= format.frames)
    throw InputError(source.name, fmt::format("it lasts {:.2f} s and --from is {:g} s; begin before its end",
                                              format.duration_s(), range.from_s));
  return {first, range.to_s < 0 ? -1 : std::max(first + 1, int64_t(range.to_s * rate))};
}

std::vector<Chain> chains_from(Session& session, const std::string& file) {
  session.also_reads(file);
  Json json;
  try {
    json = json_from_file(file);
  } catch (const JsonError& error) {
    throw InputError(file, std::string(error.what()) + "; write {\"chains\": [{\"stages\": [...]}, ...]}");
  }
  if (json.is_object() && json.contains("chains")) json = Json(json["chains"]);
  if (json.is_object()) json = Json::array({json});
  if (!json.is_array() || json.empty())
    throw InputError(file, "it holds no chains; write {\"chains\": [{\"stages\": [...]}, ...]}");
  const auto folder = std::filesystem::absolute(file).lexically_normal().parent_path();
  std::vector<Chain> chains;
  for (const Json& c : json) {
    try {
      chains.push_back(chain_from_json(c, folder));
    } catch (const ChainError& error) {
      throw InputError(file, fmt::format("chain {}: {}", chains.size() + 1, error.what()));
    }
    session.take(chains.back());
  }
  return chains;
}

std::string shown(std::optional<double> value, int decimals, const char* unit) {
  return value ? fmt::format("{:.{}f}{}{}", *value, decimals, *unit ? " " : "", unit) : std::string("none");
}

Outlet outlet_named(const std::string& key) {
  std::vector<std::string> keys;
  for (const Outlet& outlet : known_outlets()) {
    if (outlet.key == key) return outlet;
    keys.push_back(outlet.key);
  }
  throw std::invalid_argument(
      fmt::format("--outlet: there is no outlet '{}'; there are {}", printable(key), fmt::join(keys, ", ")));
}

}  // namespace heathmist::cli
