#include "app/pages/outlets/listeners_row.hpp"

#include <QHBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

ListenersRow::ListenersRow(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue) {
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  words_ = new QLabel(this);
  words_->setWordWrap(true);
  words_->setMinimumHeight(34);
  words_->setAlignment(Qt::AlignLeft | Qt::AlignTop);
  row->addWidget(words_, 1);
  trials_ = new QPushButton(tr("Hear what they get"), this);
  trials_->setToolTip(tr("A trial of each quality at the player's gain: one step, which can be undone"));
  connect(trials_, &QPushButton::clicked, this, &ListenersRow::make_trials);
  beside_ = new QPushButton(tr("Compare a file from there…"), this);
  beside_->setToolTip(tr("Was it the codec, the rate, the level in the file, or only the player?"));
  connect(beside_, &QPushButton::clicked, this, [this] {
    if (work_.is_running()) return work_.cancel();
    const QString file = choose_audio_file(this, tr("A file that was brought back from there"));
    if (!file.isEmpty()) lay_beside(file.toStdString());
  });
  for (QPushButton* button : {trials_, beside_}) row->addWidget(button, 0, Qt::AlignTop);
  connect(&work_, &LongWork::progressed, this, [this](double fraction) {
    words_->setText(tr("Laying it beside every quality, %1 %").arg(int(100 * fraction)));
  });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    if (outcome != Outcome::done) verdict_ = how_it_ended(outcome, failure);
    say();
    emit rested();
  });
  say();
}

void ListenersRow::set_subject(const std::optional<Subject>& subject) {
  if (subject == subject_) return;
  subject_ = subject;
  work_.drop();
  brought_.clear(), verdict_.clear();
  say();
}

void ListenersRow::forget(const std::filesystem::path& file) {
  if (!subject_ || (file != subject_->file && file != brought_)) return;
  work_.drop();
  brought_.clear(), verdict_.clear();
  say();
}

void ListenersRow::make_trials() {
  if (!subject_) return;
  auto chains = what_listeners_get(subject_->outlet, subject_->player_gain_db);
  std::erase_if(chains, [](const Chain& chain) { return chain.stages.empty(); });  // the master itself
  if (!chains.empty()) emit trials_wanted(subject_->master_id, chains);
}

void ListenersRow::lay_beside(const std::filesystem::path& file) {
  if (!subject_) return;
  brought_ = file;
  verdict_.clear();
  work_.start([this, subject = *subject_, file](const Job& job, const Tell& tell) {
    const auto master = Clip::open(subject.file, job.part(0, 0.05)), ret = Clip::open(file, job.part(0.05, 0.1));
    const BroughtBack b =
        heathmist::lay_beside(subject.outlet, subject.player_gain_db, master, ret, job.part(0.1, 1), grant_here());
    QStringList sentences;
    for (const std::string& s : b.sentences) sentences << QString::fromStdString(s);
    tell([this, subject, file, words = sentences.join(" ")] {
      verdict_ = words;
      emit brought(subject.file, file);
    });
  });
  say();
}

void ListenersRow::say() {
  for (QPushButton* button : {trials_, beside_}) button->setEnabled(subject_.has_value());
  beside_->setText(work_.is_running() ? tr("Stop") : tr("Compare a file from there…"));
  if (!subject_) return words_->clear();
  if (!verdict_.isEmpty()) {
    const QString name = QString::fromStdString(brought_.filename().string());
    return words_->setText(QString("%1: %2").arg(name, verdict_));
  }
  QStringList names;
  for (const Quality& q : subject_->outlet.qualities) names << QString::fromStdString(q.name);
  words_->setText(names.size() > 1 ? tr("Are served one of %1 qualities: %2.").arg(names.size()).arg(names.join(", "))
                  : subject_->outlet.encode ? tr("All get the same encode.")
                                            : tr("Get the file as it is; no encode is known."));
}

}  // namespace heathmist::app
