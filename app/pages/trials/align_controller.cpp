#include "app/pages/trials/align_controller.hpp"

#include <QInputDialog>

#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

QString on_its_clock(const Aligned& a) {
  const double drift = 1 / a.fit.ratio(), delay = -a.fit.delay_samples * drift;
  return delay >= 0
             ? QObject::tr("made late by %1 samples, drift %2 ppm").arg(number(delay, 2), number((drift - 1) * 1e6, 2))
             : QObject::tr("cut short by %1 samples at its start, drift %2 ppm")
                   .arg(number(-delay, 2), number((drift - 1) * 1e6, 2));
}

}  // namespace

QString label_of(const SoundInFile& sound) {
  QStringList words;
  for (const std::string& word : {sound.language, sound.title, sound.codec})
    if (!word.empty()) words << QString::fromStdString(word);
  words << (sound.channels == 1 ? QObject::tr("mono") : QObject::tr("%1 channels").arg(sound.channels))
        << QObject::tr("%1 kHz").arg(sound.sample_rate_hz / 1000.0);
  return QString("%1: %2").arg(sound.number).arg(words.join(", "));
}

AlignController::AlignController(PageContext& context, QObject* parent)
    : QObject(parent),
      context_(context),
      writing_(context.workspace.queue(), context.window, nullptr),
      looking_(context.workspace.queue()) {
  connect(&writing_, &Writing::ended, this, [this](Outcome outcome, const QString& sentence) {
    const QString words = outcome == Outcome::done ? told_ : how_it_ended(outcome, sentence);
    if (outcome != Outcome::cancelled) context_.say(words);
    emit rested(words);
  });
  connect(&looking_, &LongWork::ended, this, [this](Outcome outcome, const QString& sentence) {
    if (outcome == Outcome::failed) context_.say(sentence);
  });
}

std::vector<Command> AlignController::commands() {
  const auto is_file = [this] { return is_file_trial(); };
  return {{tr("Write the master on the return's clock…"),
           MenuKind::make,
           [this] {
             if (const auto to = ask_where(context_.window, {tr("Write the master on the return's clock"),
                                                             "aligned.wav", "WAV (*.wav)", "wav"}))
               write(*to);
           },
           {},
           is_file,
           {},
           true},
          {tr("Put the master's sound into the return's video…"),
           MenuKind::make,
           [this] {
             if (const auto to = ask_where(context_.window,
                                           {tr("Put the master's sound into the video"), "with the master's sound.mkv",
                                            "Matroska (*.mkv);;MOV (*.mov)", "mkv"}))
               write_video(*to);
           },
           {},
           is_file,
           {},
           true},
          {tr("Another sound of this file…"),
           MenuKind::make,
           [this] { ask_for_sound(); },
           {},
           [this] { return !row_with_file().empty(); },
           {},
           true}};
}

bool AlignController::is_file_trial() const {
  const Trial* trial = context_.workspace.bench().trial(context_.workspace.current());
  return trial && !trial->chain && !writing_.is_running();
}

std::string AlignController::row_with_file() const {
  const std::string& id = context_.workspace.current();
  const Trial* trial = context_.workspace.bench().trial(id);
  const bool has_file = trial ? !trial->chain : context_.workspace.bench().master(id) != nullptr;
  return has_file ? id : "";
}

std::filesystem::path AlignController::file_of_row() const {
  const std::string id = row_with_file();
  const Bench& bench = context_.workspace.bench();
  if (const Trial* trial = bench.trial(id)) return trial->ret.file;
  const Master* master = bench.master(id);
  return master ? master->audio.file : std::filesystem::path();
}

void AlignController::run(
    const QString& what,
    const std::function<QString(std::shared_ptr<const Clip>, std::shared_ptr<const Clip>, const Job&)>& work) {
  const Trial* trial = context_.workspace.bench().trial(context_.workspace.current());
  const Master* master = trial ? context_.workspace.bench().master_of(trial->id) : nullptr;
  if (!master || trial->chain) return;
  told_.clear();
  writing_.start(what, context_.quiet,
                 [this, work, m = master->audio.file, r = trial->ret.file](const Job& job, const Tell& tell) {
                   const auto clip = Clip::open(m, job.part(0, 0.05)), ret = Clip::open(r, job.part(0.05, 0.15));
                   const QString sentence = work(clip, ret, job.part(0.15, 1));
                   tell([this, sentence] { told_ = sentence; });
                 });
}

void AlignController::write(const Destination& to) {
  run(tr("Writing the master on the return's clock"),
      [to](std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const Job& job) {
        const Aligned a = write_aligned(master, ret, to, WordFormat::float32, job);
        return tr("%1 is written: the master, %2.")
            .arg(QString::fromStdString(to.file.filename().string()), on_its_clock(a));
      });
}

void AlignController::write_video(const Destination& to) {
  run(tr("Putting the master's sound into the video"),
      [to](std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const Job& job) {
        const AlignedVideo a = write_aligned_video(master, ret, to, {}, job);
        QString words = tr("%1 is written: %2 pictures as they were, the master %3; sound and picture lie as before, "
                           "within %4 pictures.")
                            .arg(QString::fromStdString(to.file.filename().string()))
                            .arg(a.video.pictures)
                            .arg(on_its_clock(a.aligned), number(std::abs(a.video.off_pictures()), 3));
        for (const std::string& what : a.video.left_out)
          words += " " + tr("Left out, as it is not taken: %1.").arg(QString::fromStdString(what));
        return words;
      });
}

void AlignController::ask_for_sound() {
  const std::string row = row_with_file();
  const auto file = file_behind(file_of_row());
  if (file.empty()) return;
  looking_.start([this, row, file](const Job&, const Tell& tell) {
    auto sounds = std::make_shared<std::vector<SoundInFile>>(sounds_in(file));
    tell([this, row, file, sounds] { choose_sound(row, file, *sounds); });
  });
}

void AlignController::choose_sound(const std::string& row, const std::filesystem::path& file,
                                   const std::vector<SoundInFile>& sounds) {
  const QString name = QString::fromStdString(file.filename().string());
  if (sounds.size() < 2) return context_.say(tr("%1 holds one sound only.").arg(name));
  QStringList labels;
  int now = 0;
  const int shown = sound_name(file_of_row()).number;
  for (const SoundInFile& s : sounds) {
    if (s.number == shown || (shown == 0 && s.is_usual)) now = int(labels.size());
    labels << label_of(s);
  }
  bool good = false;
  const QString chosen = QInputDialog::getItem(context_.window, tr("Another sound of this file"),
                                               tr("%1 holds:").arg(name), labels, now, false, &good);
  if (!good) return;
  const auto number = sounds[size_t(labels.indexOf(chosen))].number;
  context_.workspace.point_anew(row, QString::fromStdString(name_of_sound(file, number).string()));
}

}  // namespace heathmist::app
