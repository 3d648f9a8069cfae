// How anything leaves the window as a file: the dialog asks where to, and before another file is replaced; nothing that
// is on the bench is ever written over; what fails is said.
#pragma once
#include <QString>
#include <QWidget>
#include <functional>
#include <optional>

#include "core/audio/atomic_file.hpp"

namespace heathmist::app {

struct SaveRequest {
  QString title;        ///< of the dialog
  QString name;         ///< what the file is called first
  QString filter;       ///< "CSV (*.csv)"
  QString ending = {};  ///< put behind a name without one, before it is asked whether to replace: "csv"
};

/// The files that are read from now on (those of the bench): none of them is ever an output.
void set_files_in_use(std::vector<std::filesystem::path> files);
const std::vector<std::filesystem::path>& files_in_use();

/// A destination somebody named in a dialog that has asked whether to replace.
Destination chosen_destination(const QString& file);

/// Asks where to; nothing where it was cancelled or may not be, which has been said then.
std::optional<Destination> ask_where(QWidget* parent, const SaveRequest& wish);

/// The same, and has it written; what goes wrong is said in a dialog. False: nothing was written.
bool save_as(QWidget* parent, const SaveRequest& wish, const std::function<void(const Destination&)>& write);

/// A table's text, as CSV.
void save_table(QWidget* parent, const QString& name, const QString& csv);

}  // namespace heathmist::app
