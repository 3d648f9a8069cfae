#include "app/pages/pairs/pairs_view.hpp"

#include <QFileInfo>
#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>
#include <set>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

/// What was heard of files: the prints of those that can be read, and where each came from.
struct PrintedFiles {
  std::vector<AcousticPrint> prints;
  QStringList files;
};

PrintedFiles hear(const QStringList& files, const Job& job, std::vector<PairsView::Line>& unread, bool as_masters) {
  PrintedFiles heard;
  for (qsizetype n = 0; n < files.size(); ++n) {
    try {
      heard.prints.push_back(acoustic_print_of(
          files[n].toStdString(), job.part(double(n) / double(files.size()), double(n + 1) / double(files.size()))));
      heard.files << files[n];
    } catch (const InputError& error) {  // the others go on
      PairsView::Line line;
      (as_masters ? line.master : line.ret) = files[n];
      line.sentence = QString::fromUtf8(error.what());
      unread.push_back(line);
    }
  }
  return heard;
}

std::vector<PairsView::Line> lines_of(const Pairing& found, const QStringList& masters, const QStringList& returns) {
  std::vector<PairsView::Line> lines;
  for (const auto& p : found.pairs) {
    PairsView::Line line{masters[qsizetype(p.master)], returns[qsizetype(p.ret)], p};
    if (p.as_well) line.as_well = masters[qsizetype(*p.as_well)];
    lines.push_back(line);
  }
  for (const size_t n : found.masters_left)
    lines.push_back({masters[qsizetype(n)], {}, {}, {}, QObject::tr("has no return among these")});
  for (const size_t n : found.returns_left)
    lines.push_back({{}, returns[qsizetype(n)], {}, {}, QObject::tr("comes from none of these masters")});
  return lines;
}

std::vector<std::filesystem::path> paths_of(const QStringList& files) {
  std::vector<std::filesystem::path> paths;
  for (const QString& file : files) paths.emplace_back(file.toStdString());
  return paths;
}

Cell name_cell(const QString& file) { return {QFileInfo(file).fileName(), {}, file}; }

}  // namespace

PairsView::PairsView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 8, 8);
  rows->setSpacing(5);
  rows->addWidget(make_head());
  rows->addWidget(headline_ = answer_label(this));
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  auto* files = new QWidget(split);
  auto* beside = new QHBoxLayout(files);
  beside->setContentsMargins(0, 0, 0, 6);
  beside->setSpacing(14);
  masters_ = new FileRow(queue, tr("Masters"), tr("Drop a folder of masters here"), files);
  returns_ = new FileRow(queue, tr("What came back"), tr("Drop a folder of what came back here"), files);
  for (FileRow* row : {masters_, returns_}) {
    beside->addWidget(row);
    connect(row, &FileRow::listing_changed, this, &PairsView::fill);
    connect(row, &FileRow::refused, this, [this](const QString& sentence) { note_->setText(sentence); });
  }
  connect(masters_, &FileRow::changed, this, [this] { is_of_bench_ = false, forget({}); });
  connect(returns_, &FileRow::changed, this, [this] { forget({}); });
  make_table();
  split->addWidget(table_);
  split->setSizes({170, 400});
  rows->addWidget(split, 1);
  connect(&watch_, &FileWatch::settled, this, [this](const QString& file) {
    if (is_found_ || work_.is_running()) forget(tr("%1 has changed").arg(QFileInfo(file).fileName()));
  });
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { note_->setText(work_.in_words(tr("listening"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    note_->setText(how_it_ended(outcome, failure));
    fill();
    emit rested();
  });
  connect(&Theme::instance(), &Theme::changed, this, &PairsView::fill);
  fill();
}

QWidget* PairsView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  row->addWidget(title_label(tr("Pairs"), head));
  row->addWidget(note_ = note_label(head), 1);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "pairs.csv", csv()); });
  row->addWidget(save);
  take_ = new QPushButton(tr("Make trials of them"), head);
  take_->setToolTip(tr("A trial for each pair that is chosen, or for all: one step, which can be undone"));
  connect(take_, &QPushButton::clicked, this, &PairsView::take);
  row->addWidget(take_);
  find_ = new QPushButton(tr("Find the pairs"), head);
  find_->setProperty("main", true);
  find_->setToolTip(tr("By the sound alone, whatever the files are called"));
  connect(find_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : find(); });
  row->addWidget(find_);
  return head;
}

void PairsView::make_table() {
  table_ = new ResultTable(tr("Pairs, and what is left over"), this);
  table_->set_columns(
      {{tr("Master"), {}, [this](size_t n) { return name_cell(lines_[n].master); }, false, 230},
       {tr("What came back"), {}, [this](size_t n) { return name_cell(lines_[n].ret); }, false, 230},
       {tr("Agreement"), tr("Of their prints; 1: every bit is equal, 0: nothing in common"),
        [this](size_t n) {
          const Line& l = lines_[n];
          return l.is_pair() ? number_cell(l.pair.agreement, 2) : Cell{};
        },
        true, 84, "agreement"},
       {tr("Late by, s"), tr("Where the return begins, to about 12 ms; the trial tells it to a fraction of a sample"),
        [this](size_t n) {
          const Line& l = lines_[n];
          return l.is_pair() ? number_cell(l.pair.delay_s, 2) : Cell{};
        },
        true, 84, "delay"},
       {tr("Note"),
        {},
        [this](size_t n) {
          const Line& l = lines_[n];
          if (!l.as_well.isEmpty())
            return Cell{tr("%1 sounds the same: it may come from either").arg(QFileInfo(l.as_well).fileName()),
                        {},
                        l.as_well,
                        Role::rust};
          return l.is_pair() ? Cell{} : Cell{l.sentence, {}, l.sentence, Role::soft};
        },
        false,
        app::Column::stretch}});
  table_->setMinimumHeight(120);
  connect(table_, &ResultTable::opened, this, [this](size_t n, int) {
    if (lines_[n].is_pair()) table_->choose({n}), take();
  });
}

void PairsView::follow_bench(const QStringList& masters) {
  if (!is_of_bench_ || masters == masters_->files()) return;
  masters_->set_files(masters);
  forget({});
}

/// Nothing that was found of other files, or of what they held, stays.
void PairsView::forget(const QString& why) {
  work_.drop();
  lines_.clear();
  is_found_ = false;
  note_->setText(why);
  fill();
}

bool PairsView::is_listing() const { return masters_->is_listing() || returns_->is_listing(); }

void PairsView::find() {
  if (is_listing()) return;  // half of a folder would be looked at
  lines_.clear();
  is_found_ = false;
  std::vector<std::filesystem::path> files;
  for (const QString& file : masters_->files() + returns_->files()) files.emplace_back(file.toStdString());
  watch_.watch(files);
  watch_.take_as_known();
  work_.start([this, masters = masters_->files(), returns = returns_->files()](const Job& job, const Tell& tell) {
    auto unread = std::make_shared<std::vector<Line>>();
    const PrintedFiles m = hear(masters, job.part(0, 0.4), *unread, true),
                       r = hear(returns, job.part(0.4, 0.8), *unread, false);
    Pairing found = pair_by_sound(m.prints, r.prints, job.part(0.8, 0.85));
    leave_other_takes(found, paths_of(m.files), paths_of(r.files), job.part(0.85, 1));
    auto lines = std::make_shared<std::vector<Line>>(lines_of(found, m.files, r.files));
    lines->insert(lines->end(), unread->begin(), unread->end());
    tell([this, lines] {
      lines_ = std::move(*lines);
      is_found_ = true;
      fill();
    });
  });
  fill();
}

void PairsView::take() {
  std::vector<std::pair<QString, QString>> pairs;
  auto chosen = table_->chosen();
  if (chosen.empty())
    for (size_t n = 0; n < lines_.size(); ++n) chosen.push_back(n);
  for (const size_t n : chosen)
    if (lines_[n].is_pair()) pairs.emplace_back(lines_[n].master, lines_[n].ret);
  if (!pairs.empty()) emit pairs_taken(pairs);
}

void PairsView::fill() {
  table_->set_rows(lines_.size(), [this](size_t n) { return lines_[n].master + "\n" + lines_[n].ret; });
  size_t pairs = 0, masters = 0, returns = 0, unsure = 0;
  std::set<QString> paired;
  for (const Line& l : lines_) {
    pairs += l.is_pair(), masters += l.ret.isEmpty(), returns += l.master.isEmpty();
    unsure += !l.as_well.isEmpty();
    if (l.is_pair()) paired.insert(l.master);
  }
  const bool ready = !masters_->files().isEmpty() && !returns_->files().isEmpty();
  find_->setText(work_.is_running() ? tr("Stop") : tr("Find the pairs"));
  find_->setEnabled(work_.is_running() || (ready && !is_listing()));
  take_->setEnabled(pairs > 0);
  if (work_.is_running() && !is_found_)
    headline_->setText(tr("Listening to them…"));
  else if (!is_found_)
    headline_->setText(
        ready ? tr("Find the pairs by their sound, whatever they are called.")
              : tr("Which of these came from which? Drop the masters at the left, what came back at the right."));
  else
    headline_->setText(tr("%1 of %2 masters have a return%3%4.")
                           .arg(paired.size())
                           .arg(paired.size() + masters)
                           .arg(returns ? tr("; %1 of what came back belong to none").arg(returns) : QString(),
                                unsure ? tr("; %1 may belong to two").arg(unsure) : QString()));
}

QString PairsView::csv() const {
  std::vector<Json> rows;
  for (const Line& l : lines_)
    rows.push_back({{"master", l.master.isEmpty() ? Json(nullptr) : Json(l.master.toStdString())},
                    {"return", l.ret.isEmpty() ? Json(nullptr) : Json(l.ret.toStdString())},
                    {"agreement", l.is_pair() ? Json(l.pair.agreement) : Json(nullptr)},
                    {"delay_s", l.is_pair() ? Json(l.pair.delay_s) : Json(nullptr)},
                    {"note", (l.as_well.isEmpty() ? l.sentence : tr("as much like %1").arg(l.as_well)).toStdString()}});
  return QString::fromStdString(csv_of(rows, {"master", "return", "agreement", "delay_s", "note"}));
}

}  // namespace heathmist::app
