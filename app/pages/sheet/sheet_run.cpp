#include "app/pages/sheet/sheet_run.hpp"

#include <algorithm>

namespace heathmist::app {

SheetRun::SheetRun(Queue& queue, QObject* parent) : QObject(parent), work_(queue) {
  connect(&watch_, &FileWatch::settled, this, &SheetRun::check_again);
  connect(&work_, &LongWork::progressed, this, &SheetRun::progressed);
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    for (SheetRow& r : rows_)
      if (r.state == SheetRow::State::checking) r.state = SheetRow::State::waiting;
    emit changed();
    if (outcome == Outcome::done && waiting() > 0) return start();  // what came meanwhile
    emit rested(how_it_ended(outcome, failure));
  });
}

SheetRow* SheetRun::row(const QString& file) {
  const auto it = std::find_if(rows_.begin(), rows_.end(), [&](const SheetRow& r) { return r.file == file; });
  return it == rows_.end() ? nullptr : &*it;
}

void SheetRun::set_rules(const Rules& rules) {
  if (rules == rules_) return;
  rules_ = rules;
  check_all_again();
}

void SheetRun::add(const QStringList& files) {
  for (const QString& file : files) {
    const QString whole = QFileInfo(file).absoluteFilePath();
    if (SheetRow* known = row(whole))
      known->of_bench = false;
    else
      rows_.push_back({whole});
  }
  watch();
  emit changed();
}

void SheetRun::follow_bench(const QStringList& files) {
  const auto gone = std::erase_if(rows_, [&](const SheetRow& r) { return r.of_bench && !files.contains(r.file); });
  bool more = false;
  for (const QString& file : files)
    if (!row(file)) rows_.push_back({file, SheetRow::State::waiting, true}), more = true;
  if (gone == 0 && !more) return;
  watch();
  emit changed();
}

void SheetRun::remove(const QStringList& files) {
  std::erase_if(rows_, [&](const SheetRow& r) { return files.contains(r.file); });
  watch();
  emit changed();
}

void SheetRun::watch() {
  std::vector<std::filesystem::path> files;
  for (const SheetRow& r : rows_) files.emplace_back(r.file.toStdString());
  watch_.watch(files);
}

size_t SheetRun::waiting() const {
  return size_t(
      std::count_if(rows_.begin(), rows_.end(), [](const SheetRow& r) { return r.state == SheetRow::State::waiting; }));
}

void SheetRun::check_again(const QString& file) {
  SheetRow* known = row(file);
  if (!known) return;
  known->state = SheetRow::State::waiting;
  emit changed();
  start();
}

void SheetRun::check_all_again() {
  const bool was_running = work_.is_running();
  work_.drop();
  ++order_;
  for (SheetRow& r : rows_) r.state = SheetRow::State::waiting, r.checked = nullptr;
  emit changed();
  if (was_running) start();
}

void SheetRun::start() {
  if (work_.is_running() || waiting() == 0) return;
  run();
}

void SheetRun::run() {
  QStringList files;
  for (const SheetRow& r : rows_)
    if (r.state == SheetRow::State::waiting) files << r.file;
  work_.start([this, files, rules = rules_, order = order_](const Job& job, const Tell& tell) {
    for (qsizetype n = 0; n < files.size(); ++n) {
      const QString file = files[n];
      tell([this, file, order] {
        if (SheetRow* r = row(file); r && order == order_) r->state = SheetRow::State::checking, emit advanced();
      });
      std::shared_ptr<const Checked> checked;
      QString sentence;
      try {
        checked = std::make_shared<const Checked>(
            check_file(file.toStdString(), rules,
                       job.part(double(n) / double(files.size()), double(n + 1) / double(files.size()))));
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {  // the others go on
        sentence = QString::fromUtf8(error.what());
      }
      tell([this, file, order, checked, sentence] { take(file, order, checked, sentence); });
    }
  });
  emit changed();
}

void SheetRun::take(const QString& file, int order, std::shared_ptr<const Checked> checked, const QString& sentence) {
  SheetRow* r = row(file);
  // one that changed while it was read waits again, and is read again
  if (!r || order != order_ || r->state != SheetRow::State::checking) return;
  r->state = checked ? SheetRow::State::checked : SheetRow::State::refused;
  r->checked = std::move(checked);
  r->sentence = sentence;
  emit advanced();
  emit this->checked(file);
}

std::vector<Json> SheetRun::entries() const {
  std::vector<Json> entries;
  for (const SheetRow& r : rows_) {
    if (r.state == SheetRow::State::checked) entries.push_back(checked_json(r.file.toStdString(), *r.checked));
    if (r.state == SheetRow::State::refused)
      entries.push_back({{"path", r.file.toStdString()}, {"error", r.sentence.toStdString()}});
  }
  return entries;
}

}  // namespace heathmist::app
