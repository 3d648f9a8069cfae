#include "app/model/loudness_readings.hpp"

#include <algorithm>

#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

std::vector<LoudnessRow> rows_of(const Bench& bench) {
  std::vector<LoudnessRow> rows;
  for (const Master& m : bench.masters) {
    const QString master = QString::fromStdString(m.name);
    rows.push_back({m.id, master, master, true, m.audio.file});
    for (const Trial& t : m.trials) {
      const bool made = t.chain.has_value();
      rows.push_back({t.id, master, QString::fromStdString(title_of(t)), false, made ? m.audio.file : t.ret.file});
      if (made) rows.back().chain = t.chain;
    }
  }
  return rows;
}

/// A row's numbers: kept ones, or fresh ones.
Measured measure_row(const LoudnessRow& row, const Job& job) {
  return row.chain ? measure_return(row.file, *row.chain, job, grant_here()) : measure_file(row.file, job);
}

}  // namespace

LoudnessReadings::LoudnessReadings(Queue& queue, QObject* parent) : QObject(parent), work_(queue) {
  tell_.setSingleShot(true);
  tell_.setInterval(100);
  connect(&tell_, &QTimer::timeout, this, &LoudnessReadings::measured);
  connect(&work_, &LongWork::progressed, this, [this](double fraction) { fraction_ = fraction; });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    tell_.stop();
    emit measured();
    emit rested(how_it_ended(outcome, failure));
  });
}

void LoudnessReadings::set_dialogue(const std::string& id, std::optional<Dialogue> dialogue) {
  for (LoudnessRow& row : rows_)
    if (row.id == id) row.dialogue = dialogue;
  emit measured();
}

void LoudnessReadings::set_bench(const Bench& bench) {
  auto fresh = rows_of(bench);
  auto same = [](const LoudnessRow& a, const LoudnessRow& b) {
    return a.id == b.id && a.file == b.file && a.chain == b.chain;
  };
  const bool no_change =
      std::equal(fresh.begin(), fresh.end(), rows_.begin(), rows_.end(),
                 [&](const auto& a, const auto& b) { return same(a, b) && a.name == b.name && a.master == b.master; });
  if (no_change) return;
  for (LoudnessRow& row : fresh)
    for (const LoudnessRow& before : rows_)
      if (same(row, before))
        row.measured = before.measured, row.failure = before.failure, row.dialogue = before.dialogue;
  const bool was_running = work_.is_running();
  work_.drop();
  rows_ = std::move(fresh);
  emit rows_changed();
  if (was_running) run();
}

void LoudnessReadings::forget(const std::filesystem::path& file) {
  bool any = false;
  for (LoudnessRow& row : rows_) {
    const auto read = row.chain ? files_read_by(*row.chain) : std::vector<std::filesystem::path>();
    if (row.file != file && std::find(read.begin(), read.end(), file) == read.end()) continue;
    row.measured.reset(), row.failure.clear(), row.dialogue.reset(), any = true;
  }
  if (!any) return;
  const bool was_running = work_.is_running();
  work_.drop();
  emit rows_changed();
  if (was_running) run();
}

void LoudnessReadings::retry_failed() {
  for (LoudnessRow& row : rows_) row.failure.clear();
  emit rows_changed();
}

void LoudnessReadings::run() {
  std::vector<std::pair<size_t, LoudnessRow>> open;
  for (size_t n = 0; n < rows_.size(); ++n)
    if (!rows_[n].measured && rows_[n].failure.isEmpty()) open.emplace_back(n, rows_[n]);
  if (open.empty() || work_.is_running()) return;
  fraction_ = 0;
  work_.start([this, open = std::move(open)](const Job& job, const Tell& tell) {
    for (size_t k = 0; k < open.size(); ++k) {
      job.check();
      std::shared_ptr<const Measured> numbers;
      QString failure;
      try {
        const auto count = double(open.size());
        numbers =
            std::make_shared<Measured>(measure_row(open[k].second, job.part(double(k) / count, double(k + 1) / count)));
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {
        failure = QString::fromUtf8(error.what());
      }
      tell([this, place = open[k].first, numbers, failure] { take(place, numbers, failure); });
    }
  });
}

void LoudnessReadings::take(size_t place, std::shared_ptr<const Measured> numbers, const QString& failure) {
  if (place >= rows_.size()) return;
  rows_[place].measured = std::move(numbers);
  rows_[place].failure = failure;
  if (!tell_.isActive()) tell_.start();
}

const LoudnessRow* LoudnessReadings::row(const std::string& id) const {
  const auto it = std::find_if(rows_.begin(), rows_.end(), [&](const LoudnessRow& r) { return r.id == id; });
  return it == rows_.end() ? nullptr : &*it;
}

size_t LoudnessReadings::waiting() const {
  return size_t(std::count_if(rows_.begin(), rows_.end(),
                              [](const LoudnessRow& r) { return !r.measured && r.failure.isEmpty(); }));
}

}  // namespace heathmist::app
