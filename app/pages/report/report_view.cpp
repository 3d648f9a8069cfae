#include "app/pages/report/report_view.hpp"

#include <QFileDialog>
#include <QFileInfo>
#include <QVBoxLayout>

#include "app/report/paper.hpp"
#include "app/report/write_report.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

enum class Scope { bench, master, trial, album };

QString words_of(ReportPart part) {
  switch (part) {
    case ReportPart::findings:
      return QObject::tr("Findings");
    case ReportPart::plots:
      return QObject::tr("Plots");
    case ReportPart::loudness:
      return QObject::tr("Loudness");
    case ReportPart::outlets:
      return QObject::tr("Outlets");
    case ReportPart::settings:
      return QObject::tr("Settings of chains");
    case ReportPart::blind:
      return QObject::tr("Blind tests");
    case ReportPart::marks:
      return QObject::tr("Marks");
    case ReportPart::files:
      return QObject::tr("Files and their hashes");
  }
  return {};
}

}  // namespace

ReportView::ReportView(Queue& queue, QWidget* window, Asks asks, QWidget* parent)
    : QWidget(parent), asks_(std::move(asks)), work_(queue), writing_(queue, window, nullptr) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 8, 8);
  rows->setSpacing(6);
  rows->addWidget(make_head());
  auto* columns = new QHBoxLayout;
  columns->setSpacing(12);
  columns->addWidget(make_choices());
  columns->addWidget(pages_ = new PagesView(this), 1);
  rows->addLayout(columns, 1);
  soon_.setSingleShot(true);
  soon_.setInterval(250);  // typed letters are one change
  connect(&soon_, &QTimer::timeout, this, &ReportView::make);
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { note_->setText(work_.in_words(tr("measuring"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    is_stopped_ = outcome != Outcome::done;
    if (is_stopped_) show_state(failure.isEmpty() ? tr("Stopped. Change anything, or come back, to go on.") : failure);
    stop_->hide();
    emit rested();
  });
  connect(&writing_, &Writing::ended, this, [this](Outcome outcome, const QString& failure) {
    if (!failure.isEmpty()) emit failed(tr("The report was not written. %1").arg(failure));
    if (outcome == Outcome::done) note_->setText(tr("written"));
    emit written(outcome == Outcome::done);
  });
  set_logo({});
}

QWidget* ReportView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  row->addWidget(title_label(tr("Report"), head));
  row->addWidget(note_ = note_label(head), 1);
  row->addWidget(stop_ = new QPushButton(tr("Stop"), head));
  connect(stop_, &QPushButton::clicked, this, [this] { work_.cancel(); });
  stop_->setObjectName("stop");
  stop_->hide();
  row->addWidget(html_ = new QPushButton(tr("Save as HTML…"), head));
  html_->setToolTip(tr("One file for any browser, plots and all"));
  connect(html_, &QPushButton::clicked, this, [this] { save("html"); });
  row->addWidget(pdf_ = new QPushButton(tr("Save as PDF…"), head));
  pdf_->setProperty("main", true);
  connect(pdf_, &QPushButton::clicked, this, [this] { save("pdf"); });
  return head;
}

QWidget* ReportView::make_choices() {
  auto* box = new QWidget(this);
  box->setFixedWidth(214);
  auto* rows = new QVBoxLayout(box);
  rows->setContentsMargins(0, 4, 0, 0);
  rows->setSpacing(5);
  rows->addWidget(title_label(tr("It is of"), box));
  rows->addWidget(scope_ = new QComboBox(box));
  scope_->setAccessibleName(tr("What the report is of"));
  connect(scope_, &QComboBox::currentIndexChanged, this, &ReportView::make_soon);
  rows->addSpacing(8);
  rows->addWidget(title_label(tr("Heading"), box));
  rows->addWidget(heading_ = new QLineEdit(box));
  heading_->setAccessibleName(tr("Heading"));
  connect(heading_, &QLineEdit::textEdited, this, &ReportView::make_soon);
  rows->addSpacing(8);
  rows->addWidget(title_label(tr("Logo"), box));
  auto* logo = new QHBoxLayout;
  auto* choose = new QPushButton(tr("Choose…"), box);
  connect(choose, &QPushButton::clicked, this, [this] {
    const QString file =
        QFileDialog::getOpenFileName(this, tr("Logo of the report"), {}, tr("Pictures (*.png *.jpg *.jpeg)"));
    if (!file.isEmpty()) set_logo(file);
  });
  logo->addWidget(choose);
  logo->addWidget(no_logo_ = new QPushButton(tr("None"), box));
  connect(no_logo_, &QPushButton::clicked, this, [this] { set_logo({}); });
  logo->addStretch(1);
  rows->addLayout(logo);
  rows->addWidget(logo_name_ = soft_label("", box));
  rows->addSpacing(8);
  rows->addWidget(title_label(tr("What goes in"), box));
  for (const ReportPart part : report_parts) {
    auto* check = parts_[part] = new QCheckBox(words_of(part), box);
    check->setChecked(true);
    connect(check, &QCheckBox::toggled, this, &ReportView::make_soon);
    rows->addWidget(check);
  }
  rows->addStretch(1);
  return box;
}

void ReportView::follow(const Bench& bench, const std::string& bench_file, const std::string& looked_at) {
  const bool is_same = bench_file == bench_file_ && bench == bench_;
  bench_ = bench, bench_file_ = bench_file;
  const bool looks_elsewhere = looked_at != looked_at_;
  looked_at_ = looked_at;
  if (!is_same || looks_elsewhere) fill_scope();
  heading_->setPlaceholderText(QString::fromStdString(bench_.name));
  const bool is_of_looked_at = scope_->currentIndex() > 0;
  const bool is_waiting = !report_ && !work_.is_running() && !soon_.isActive() && !is_stopped_;
  const bool was_left = std::exchange(is_left_, false);
  if (!is_same || is_waiting || was_left || (looks_elsewhere && is_of_looked_at)) make_soon();
}

/// The whole bench, and what is looked at with what it belongs to.
void ReportView::fill_scope() {
  const QSignalBlocker quiet(scope_);
  const auto was = Scope(scope_->currentData().toInt());
  scope_->clear();
  scope_->addItem(tr("The whole bench"), int(Scope::bench));
  const Master* master = bench_.master(looked_at_);
  const Trial* trial = bench_.trial(looked_at_);
  if (trial) master = bench_.master_of(looked_at_);
  if (master) scope_->addItem(tr("Master: %1").arg(QString::fromStdString(master->name)), int(Scope::master));
  if (trial) scope_->addItem(tr("Trial: %1").arg(QString::fromStdString(title_of(*trial))), int(Scope::trial));
  if (master && !master->album.empty())
    scope_->addItem(tr("Album: %1").arg(QString::fromStdString(master->album)), int(Scope::album));
  scope_->setCurrentIndex(std::max(0, scope_->findData(int(was))));
}

ReportChoice ReportView::choice() const {
  ReportChoice choice;
  choice.heading = heading_->text().trimmed().toStdString();
  choice.logo = logo_.toStdString();
  for (const auto& [part, check] : parts_)
    if (!check->isChecked()) choice.without.push_back(part);
  const Master* master = bench_.trial(looked_at_) ? bench_.master_of(looked_at_) : bench_.master(looked_at_);
  switch (Scope(scope_->currentData().toInt())) {
    case Scope::bench:
      break;
    case Scope::master:
      if (master) choice.masters = {master->id};
      break;
    case Scope::trial:
      choice.trials = {looked_at_};
      break;
    case Scope::album:
      if (master) choice.albums = {master->album};
      break;
  }
  return choice;
}

void ReportView::set_choice(const ReportChoice& choice) {
  heading_->setText(QString::fromStdString(choice.heading));
  for (auto& [part, check] : parts_) {
    const QSignalBlocker quiet(check);
    check->setChecked(choice.has(part));
  }
  set_logo(QString::fromStdString(choice.logo.string()));
}

void ReportView::set_logo(const QString& file) {
  logo_ = file;
  no_logo_->setEnabled(!file.isEmpty());
  logo_name_->setText(file.isEmpty() ? tr("no logo") : QFileInfo(file).fileName());
  logo_name_->setToolTip(file);
  make_soon();
}

void ReportView::forget(const std::filesystem::path& file) {
  const auto files = files_of(bench_);
  if (std::find(files.begin(), files.end(), file) == files.end() && file != logo_.toStdString()) return;
  make_soon();
}

/// What is shown is not what would be made now.
void ReportView::make_soon() {
  drop();
  is_stopped_ = false;
  show_state(bench_.masters.empty() ? tr("A report needs a master: drop one on the ledger.")
                                    : tr("Making the report…"));
  if (isVisible() && !bench_.masters.empty()) soon_.start();
}

void ReportView::drop() {
  work_.drop();
  stop_->hide();
  report_.reset();
}

void ReportView::show_state(const QString& words) {
  pages_->show_words(words);
  note_->clear();
  pdf_->setEnabled(false), html_->setEnabled(false);
}

void ReportView::make() {
  if (asks_.is_measuring()) {
    note_->setText(tr("waiting for the trials that are being measured"));
    return soon_.start();
  }
  drop();
  stop_->show();
  std::map<std::string, std::shared_ptr<const AnalysisResult>> known;
  for (const Master& m : bench_.masters)
    for (const Trial& t : m.trials)
      if (auto result = asks_.known(t); result && result->why) known.emplace(t.id, std::move(result));
  work_.start([this, kept = kept_, bench = bench_, choice = choice(), known](const Job& job, const Tell& tell) {
    check_logo(choice.logo);
    const std::scoped_lock held(kept->lock);
    ReportSources sources{grant_here(), {}, &kept->analysis};
    sources.known = [&](const Trial& trial) {
      const auto it = known.find(trial.id);
      return it == known.end() ? nullptr : it->second;
    };
    auto report = std::make_shared<const Report>(make_report(bench, choice, sources, job));
    const Paper paper(*report);
    auto pages = std::make_shared<std::vector<QPicture>>(paper.pictures());
    tell([this, report, pages, size = paper.size()] {
      report_ = report;
      const auto count = tr("%1 pages").arg(pages->size());
      pages_->show_pages(std::move(*pages), size);
      pdf_->setEnabled(true), html_->setEnabled(true);
      note_->setText(report->troubles.empty() ? count
                                              : tr("%1; %2 could not be used").arg(count).arg(report->troubles.size()));
      QStringList troubles;
      for (const auto& sentence : report->troubles) troubles << QString::fromStdString(sentence);
      note_->setToolTip(troubles.join('\n'));
    });
  });
}

void ReportView::write(const Destination& to) {
  if (!report_) return;
  writing_.start(tr("Writing the report"), asks_.is_quiet(),
                 [report = report_, to](const Job&, const Tell&) { write_report(*report, to); });
}

void ReportView::save(const QString& ending) {
  if (!report_) return;
  const QString name = QString::fromStdString(report_->heading).replace('/', '-') + "." + ending;
  const QString filter = ending == "pdf" ? tr("PDF (*.pdf)") : tr("HTML (*.html)");
  if (const auto to = ask_where(this, {tr("Save the report"), name, filter, ending})) write(*to);
}

}  // namespace heathmist::app
