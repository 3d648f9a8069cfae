// The `bext` chunk, read through libsndfile and laid out by hand: libsndfile's own writing claims 24 bits of every
// floating-point file.
#include <sndfile.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <memory>

#include "core/audio/little_endian.hpp"
#include "core/audio/tags.hpp"

namespace heathmist {

namespace {

constexpr int16_t no_value = 0x7fff;  // Tech 3285: a loudness that is not known
constexpr size_t most_history = 1 << 16, most_chunk = 1 << 24;
constexpr const char* carried[] = {"iXML", "axml"};

using Sound = std::unique_ptr<SNDFILE, decltype(&sf_close)>;

std::optional<double> hundredths(int value) { return value == no_value ? std::nullopt : std::optional(value / 100.0); }

int16_t in_hundredths(std::optional<double> value) {
  return value ? int16_t(std::lround(std::clamp(*value, -300.0, 300.0) * 100)) : no_value;
}

std::string until_zero(const char* text, size_t most) { return {text, strnlen(text, most)}; }

void put(std::string& bytes, std::string text, size_t length) {
  text.resize(length, '\0');
  bytes += text;
}

std::optional<std::string> chunk_of(SNDFILE* sound, const char* id) {
  SF_CHUNK_INFO chunk{};
  std::memcpy(chunk.id, id, 4);
  chunk.id_size = 4;
  SF_CHUNK_ITERATOR* at = sf_get_chunk_iterator(sound, &chunk);
  if (!at || sf_get_chunk_size(at, &chunk) != SF_ERR_NO_ERROR || chunk.datalen > most_chunk) return {};
  std::string bytes(chunk.datalen, '\0');
  chunk.data = bytes.data();
  if (sf_get_chunk_data(at, &chunk) != SF_ERR_NO_ERROR) return {};
  bytes.erase(bytes.find_last_not_of('\0') + 1);  // filled up to a multiple of four
  return bytes;
}

void take_fixed(const SF_BROADCAST_INFO& info, BroadcastExtension& bext) {
  bext.description = until_zero(info.description, sizeof info.description);
  bext.originator = until_zero(info.originator, sizeof info.originator);
  bext.originator_reference = until_zero(info.originator_reference, sizeof info.originator_reference);
  bext.date = until_zero(info.origination_date, sizeof info.origination_date);
  bext.time = until_zero(info.origination_time, sizeof info.origination_time);
  bext.time_reference = uint64_t(info.time_reference_high) << 32 | info.time_reference_low;
  if (info.version >= 1 && std::any_of(std::begin(info.umid), std::end(info.umid), [](char c) { return c != 0; }))
    bext.umid.assign(info.umid, sizeof info.umid);
  if (info.version < 2) return;
  bext.loudness.integrated_lufs = hundredths(info.loudness_value);
  bext.loudness.range_lu = hundredths(info.loudness_range);
  bext.loudness.true_peak_dbtp = hundredths(info.max_true_peak_level);
  bext.loudness.momentary_max_lufs = hundredths(info.max_momentary_loudness);
  bext.loudness.short_term_max_lufs = hundredths(info.max_shortterm_loudness);
}

}  // namespace

std::optional<BroadcastExtension> read_broadcast_extension(const std::filesystem::path& file) {
  SF_INFO info{};
  const Sound sound(sf_open(file.c_str(), SFM_READ, &info), &sf_close);
  if (!sound) return {};
  BroadcastExtension bext;
  bool any = false;
  using Long = SF_BROADCAST_INFO_VAR(most_history);
  const auto raw = std::make_unique<Long>();
  if (sf_command(sound.get(), SFC_GET_BROADCAST_INFO, raw.get(), sizeof(Long)) == SF_TRUE) {
    any = true;
    SF_BROADCAST_INFO fixed;
    std::memcpy(&fixed, raw.get(), sizeof fixed);
    take_fixed(fixed, bext);
    bext.coding_history = until_zero(raw->coding_history, std::min<size_t>(raw->coding_history_size, most_history));
  }
  for (const char* id : carried)
    if (auto bytes = chunk_of(sound.get(), id)) any = true, bext.others.emplace_back(id, std::move(*bytes));
  return any ? std::optional(bext) : std::nullopt;
}

std::string bytes_of(const BroadcastExtension& b) {
  std::string bytes;
  put(bytes, b.description, 256);
  put(bytes, b.originator, 32);
  put(bytes, b.originator_reference, 32);
  put(bytes, b.date, 10);
  put(bytes, b.time, 8);
  put_little_endian(bytes, b.time_reference, 8);
  put_little_endian(bytes, 2, 2);
  put(bytes, b.umid, 64);
  const LoudnessTags& l = b.loudness;
  for (const auto value :
       {l.integrated_lufs, l.range_lu, l.true_peak_dbtp, l.momentary_max_lufs, l.short_term_max_lufs})
    put_little_endian(bytes, uint16_t(in_hundredths(value)), 2);
  put(bytes, "", 180);
  return bytes + b.coding_history;
}

}  // namespace heathmist
