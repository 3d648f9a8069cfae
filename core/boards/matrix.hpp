// The setting matrix: masters and probe signals by chains, a null in every cell.
#pragma once
#include "core/compare/null.hpp"
#include "core/measure/tones.hpp"
#include "core/probes/signal.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

/// A row: a master's file or a probe signal.
struct MatrixRow {
  std::string name;
  std::filesystem::path file;  ///< empty: the probe
  std::string probe;           ///< its key
  bool operator==(const MatrixRow&) const = default;
};

struct MatrixCell {
  bool done = false;
  std::string failure;  ///< why it could not be done
  std::string kind;
  std::optional<double> depth_db, remainder_db;  ///< residual and remainder against the master; none: nothing is left
  std::optional<double> bandwidth_hz, true_peak_dbtp;
  std::optional<ToneReading> tones;  ///< of probes with lines
  std::optional<int64_t> encoded_bytes, bit_rate_bps;
  std::string note;  ///< what its stages did of their own
};

/// What a cell is read by. Lower is better for all but bandwidth.
enum class MatrixValue { depth, remainder, bandwidth, true_peak, thd_n, spurious, size };
constexpr int matrix_values = 7;
const char* name_of(MatrixValue value);
/// dB, Hz, dBTP or bytes; nothing where the cell has none.
std::optional<double> value_of(const MatrixCell& cell, MatrixValue value);

struct Matrix {
  std::vector<MatrixRow> rows;
  std::vector<Chain> columns;
  std::vector<MatrixCell> cells;  ///< rows x columns
  const MatrixCell& at(size_t row, size_t column) const { return cells[row * columns.size() + column]; }
};

/// Eight settings to start from, where a bench keeps no chains yet.
const std::vector<Chain>& common_settings();

/// Runs every cell, as many at a time as there are cores. `done` is called for each as it is done, from any thread, one
/// at a time; what was done before a cancel has been handed over. Probes are made at 44.1 kHz. A cell that cannot be
/// done says why; the others go on. What was done is kept for kept_cell(). Throws Cancelled.
Matrix run_matrix(const std::vector<MatrixRow>& rows, const std::vector<Chain>& columns, const Job& job = {},
                  const std::function<void(size_t row, size_t column, const MatrixCell&)>& done = {},
                  const Grant& grant = grant_nothing);

/// What a cell came to on this machine, where neither the row's file nor anything the chain reads has changed since;
/// else nothing. Cells that failed are not kept, nor are those of chains that run programs, load plug-ins or write
/// files.
std::optional<MatrixCell> kept_cell(const MatrixRow& row, const Chain& chain);

Json cell_json(const MatrixRow& row, const Chain& column, const MatrixCell& cell);
Json matrix_json(const Matrix& matrix);
/// One line a cell.
std::string matrix_csv(const Matrix& matrix);

}  // namespace heathmist
