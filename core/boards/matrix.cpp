#include "core/boards/matrix.hpp"

#include <fmt/format.h>

#include <cmath>

#include "core/audio/fingerprint.hpp"
#include "core/audio/kept.hpp"
#include "core/compare/json.hpp"
#include "core/measure/spectra.hpp"
#include "core/measure/true_peak.hpp"
#include "core/rules.hpp"
#include "core/stages/permission.hpp"
#include "core/stages/returns.hpp"

namespace heathmist {

namespace {

constexpr int probe_rate_hz = 44100;
constexpr double probe_seconds = 8;
constexpr size_t most_fft = 1 << 17, least_fft = 1 << 13;

/// The lines of a probe in its return, away from both ends.
std::optional<ToneReading> tones_of(const Clip& ret, const ProbeSignal& probe, const Job& job) {
  if (probe.tones_hz.empty()) return {};
  const auto& f = ret.format();
  const int64_t edge = f.sample_rate_hz / 2;
  size_t size = most_fft;  // a return of a lower rate has fewer frames
  while (size > least_fft && f.frames < 2 * edge + int64_t(size)) size /= 2;
  if (f.frames < 2 * edge + int64_t(size)) return {};
  std::vector<double> tones = probe.tones_hz;
  const double top = 0.45 * std::min(probe_rate_hz, f.sample_rate_hz);
  std::erase_if(tones, [&](double hz) { return hz > top; });
  if (tones.empty()) return {};
  SpectraOptions whole;
  whole.fft_size = size, whole.first = edge, whole.last = f.frames - edge;
  return read_tones(spectra_of(ret, whole, job).average, tones);
}

struct Opened {
  std::shared_ptr<const Clip> clip;
  std::string failure;
  std::string print;  ///< of what was opened
};

std::string print_of(const MatrixRow& row) { return row.file.empty() ? "probe_" + row.probe : fingerprint(row.file); }

MatrixCell cell_of(const Opened& master, const MatrixRow& row, const Chain& chain, const Job& job, const Grant& grant) {
  MatrixCell cell;
  cell.done = true;
  cell.failure = master.failure;
  if (!master.clip) return cell;
  try {
    const Passed made = pass(master.clip, chain, job, {grant});
    for (const StageReport& s : made.stages) {
      if (s.encoded_bytes) cell.encoded_bytes = s.encoded_bytes, cell.bit_rate_bps = s.bit_rate_bps;
      if (!s.note.empty()) cell.note += (cell.note.empty() ? "" : "; ") + s.note;
    }
    cell.true_peak_dbtp = true_peaks(*made.ret, 0, job).dbtp;
    const auto report = null_test(master.clip, made.ret, {}, job);
    cell.kind = name_of(report.kind);
    cell.depth_db = report.residual_relative_db();
    cell.remainder_db = report.sums.remainder_relative_db();
    cell.bandwidth_hz = report.return_bandwidth_hz;
    if (const ProbeSignal* probe = probe_signal(row.probe)) cell.tones = tones_of(*made.ret, *probe, job);
  } catch (const Cancelled&) {
    throw;
  } catch (const std::exception& error) {
    cell.failure = error.what();
  }
  return cell;
}

/// What a cell is kept under; empty: it is not.
std::string name_of(const std::string& print, const Chain& chain) {
  constexpr int kept_version = 1;
  if (print.empty() || !disarmed_stages(chain, grant_nothing).empty()) return {};
  return fmt::format("{}-{}-{}-{}.cell", print, chain_fingerprint(chain), kept_version, rules_fingerprint);
}

Json pack(const MatrixCell& c) {
  const auto count = [](std::optional<int64_t> n) { return n ? Json(*n) : Json(nullptr); };
  return {{"kind", c.kind},
          {"levels", {number_or_null(c.depth_db), number_or_null(c.remainder_db), number_or_null(c.true_peak_dbtp)}},
          {"bandwidth_hz", number_or_null(c.bandwidth_hz)},
          {"tones", c.tones ? Json{c.tones->level_dbfs, c.tones->thd_n_db, c.tones->spurious_hz, c.tones->spurious_dbr}
                            : Json(nullptr)},
          {"encoded", {count(c.encoded_bytes), count(c.bit_rate_bps)}},
          {"note", c.note}};
}

MatrixCell unpack_cell(const Json& json) {
  MatrixCell c;
  c.done = true, c.kind = json.at("kind");
  const Json &levels = json.at("levels"), &encoded = json.at("encoded"), &tones = json.at("tones");
  c.depth_db = number_from(levels.at(0)), c.remainder_db = number_from(levels.at(1));
  c.true_peak_dbtp = number_from(levels.at(2));
  c.bandwidth_hz = number_from(json.at("bandwidth_hz"));
  if (!tones.is_null()) c.tones = ToneReading{tones.at(0), tones.at(1), tones.at(2), tones.at(3)};
  c.encoded_bytes = number_from<int64_t>(encoded.at(0)), c.bit_rate_bps = number_from<int64_t>(encoded.at(1));
  c.note = json.at("note");
  return c;
}

}  // namespace

std::optional<MatrixCell> kept_cell(const MatrixRow& row, const Chain& chain) {
  return kept_value(name_of(print_of(row), chain), unpack_cell);
}

const char* name_of(MatrixValue value) {
  constexpr const char* names[] = {"depth_db", "remainder_db", "bandwidth_hz", "true_peak_dbtp",
                                   "thd_n_db", "spurious_dbr", "encoded_bytes"};
  return names[int(value)];
}

std::optional<double> value_of(const MatrixCell& cell, MatrixValue value) {
  switch (value) {
    case MatrixValue::depth:
      return cell.depth_db;
    case MatrixValue::remainder:
      return cell.remainder_db;
    case MatrixValue::bandwidth:
      return cell.bandwidth_hz;
    case MatrixValue::true_peak:
      return cell.true_peak_dbtp;
    case MatrixValue::thd_n:
      return cell.tones ? std::optional(cell.tones->thd_n_db) : std::nullopt;
    case MatrixValue::spurious:
      return cell.tones ? std::optional(cell.tones->spurious_dbr) : std::nullopt;
    case MatrixValue::size:
      return cell.encoded_bytes ? std::optional(double(*cell.encoded_bytes)) : std::nullopt;
  }
  return {};
}

const std::vector<Chain>& common_settings() {
  static const std::vector<Chain> all = [] {
    std::vector<Chain> list;
    for (const auto& [codec, kbps] : {std::pair{"aac", 128}, {"aac", 256}, {"mp3", 128}, {"mp3", 320}, {"opus", 96}})
      list.push_back({"", {{"codec", {{"codec", codec}, {"bit_rate_kbps", kbps}}}}, 1});
    list.push_back({"", {{"codec", {{"codec", "vorbis"}, {"mode", "quality"}, {"quality", 6}}}}, 1});
    list.push_back({"", {{"codec", {{"codec", "adpcm_ima"}}}}, 1});
    list.push_back({"", {{"word_length", {{"bits", 16}}}}, 1});
    return list;
  }();
  return all;
}

Matrix run_matrix(const std::vector<MatrixRow>& rows, const std::vector<Chain>& columns, const Job& job,
                  const std::function<void(size_t, size_t, const MatrixCell&)>& done, const Grant& grant) {
  Matrix matrix{rows, columns, std::vector<MatrixCell>(rows.size() * columns.size())};
  std::vector<Opened> masters(rows.size());
  for (size_t r = 0; r < rows.size(); ++r) {
    try {
      const ProbeSignal* probe = rows[r].file.empty() ? probe_signal(rows[r].probe) : nullptr;
      masters[r].print = print_of(rows[r]);
      if (rows[r].file.empty() && !probe) throw ChainError(fmt::format("there is no probe signal '{}'", rows[r].probe));
      masters[r].clip = probe ? probe_clip(*probe, probe_rate_hz, probe_seconds)
                              : Clip::open(rows[r].file, Job{job.stop, {}, job.threads});
    } catch (const Cancelled&) {
      throw;
    } catch (const std::exception& error) {
      masters[r].failure = error.what();
    }
  }
  std::mutex lock;
  for_each_segment(
      int64_t(matrix.cells.size()), job, [] { return 0; },
      [&](int, int64_t n) {
        const size_t row = size_t(n) / columns.size(), column = size_t(n) % columns.size();
        const auto name = name_of(masters[row].print, columns[column]);
        MatrixCell cell = cell_of(masters[row], rows[row], columns[column], Job{job.stop, {}, 1}, grant);
        const bool changed = name != name_of(print_of(rows[row]), columns[column]);  // while it was run
        if (cell.failure.empty() && !changed) keep_value(name, pack(cell));
        std::scoped_lock held(lock);
        if (done) done(row, column, cell);
        matrix.cells[size_t(n)] = std::move(cell);
      });
  return matrix;
}

namespace {

std::string quoted(std::string text) {
  for (size_t at = 0; (at = text.find('"', at)) != std::string::npos; at += 2) text.insert(at, 1, '"');
  return '"' + text + '"';
}

}  // namespace

Json cell_json(const MatrixRow& row, const Chain& column, const MatrixCell& cell) {
  Json json{{"row", row.name}, {"chain", title_of(column)}, {"kind", cell.kind}};
  for (int v = 0; v < matrix_values; ++v)
    json[name_of(MatrixValue(v))] = number_or_null(value_of(cell, MatrixValue(v)));
  json["spurious_hz"] = number_or_null(cell.tones ? std::optional(cell.tones->spurious_hz) : std::nullopt);
  json["bit_rate_bps"] = cell.bit_rate_bps ? Json(*cell.bit_rate_bps) : Json(nullptr);
  json["note"] = cell.note.empty() ? Json(nullptr) : Json(cell.note);
  json["failure"] = cell.failure.empty() ? Json(nullptr) : Json(cell.failure);
  return json;
}

Json matrix_json(const Matrix& matrix) {
  Json cells = Json::array();
  for (size_t r = 0; r < matrix.rows.size(); ++r)
    for (size_t c = 0; c < matrix.columns.size(); ++c)
      cells.push_back(cell_json(matrix.rows[r], matrix.columns[c], matrix.at(r, c)));
  return {{"cells", cells}};
}

std::string matrix_csv(const Matrix& matrix) {
  std::string text = "row,chain,kind";
  for (int v = 0; v < matrix_values; ++v) text += fmt::format(",{}", name_of(MatrixValue(v)));
  text += ",spurious_hz,bit_rate_bps,failure\n";
  for (size_t r = 0; r < matrix.rows.size(); ++r)
    for (size_t c = 0; c < matrix.columns.size(); ++c) {
      const MatrixCell& cell = matrix.at(r, c);
      text += fmt::format("{},{},{}", quoted(matrix.rows[r].name), quoted(title_of(matrix.columns[c])), cell.kind);
      for (int v = 0; v < matrix_values; ++v) {
        const auto value = value_of(cell, MatrixValue(v));
        text += value ? fmt::format(",{:.{}f}", *value, MatrixValue(v) == MatrixValue::size ? 0 : 3) : ",";
      }
      text += cell.tones ? fmt::format(",{:.2f}", cell.tones->spurious_hz) : ",";
      text += cell.bit_rate_bps ? fmt::format(",{}", *cell.bit_rate_bps) : ",";
      text += "," + (cell.failure.empty() ? std::string() : quoted(cell.failure)) + "\n";
    }
  return text;
}

}  // namespace heathmist
