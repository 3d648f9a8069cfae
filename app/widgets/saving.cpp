#include "app/widgets/saving.hpp"

#include <QFileDialog>
#include <QMessageBox>

namespace heathmist::app {

namespace {

std::vector<std::filesystem::path>& in_use() {
  static std::vector<std::filesystem::path> files;
  return files;
}

void say(QWidget* parent, const char* sentence) {
  QMessageBox::warning(parent, QObject::tr("Not written"), QString::fromUtf8(sentence));
}

}  // namespace

void set_files_in_use(std::vector<std::filesystem::path> files) { in_use() = std::move(files); }

const std::vector<std::filesystem::path>& files_in_use() { return in_use(); }

Destination chosen_destination(const QString& file) { return {file.toStdString(), true, in_use()}; }

std::optional<Destination> ask_where(QWidget* parent, const SaveRequest& wish) {
  QFileDialog dialog(parent, wish.title, {}, wish.filter);
  dialog.setAcceptMode(QFileDialog::AcceptSave);
  dialog.setDefaultSuffix(wish.ending);
  dialog.selectFile(wish.name);
  if (dialog.exec() != QDialog::Accepted || dialog.selectedFiles().isEmpty()) return {};
  auto to = chosen_destination(dialog.selectedFiles().front());
  try {
    check(to);
    return to;
  } catch (const std::exception& error) {
    say(parent, error.what());
    return {};
  }
}

bool save_as(QWidget* parent, const SaveRequest& wish, const std::function<void(const Destination&)>& write) {
  const auto to = ask_where(parent, wish);
  if (!to) return false;
  try {
    write(*to);
    return true;
  } catch (const std::exception& error) {
    say(parent, error.what());
    return false;
  }
}

void save_table(QWidget* parent, const QString& name, const QString& csv) {
  save_as(parent, {QObject::tr("Save the table"), name, QObject::tr("CSV (*.csv)"), "csv"},
          [&](const Destination& to) { write_whole(to, csv.toStdString()); });
}

}  // namespace heathmist::app
