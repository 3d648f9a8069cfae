#include "app/pages/sheet/sheet_view.hpp"

#include <QDragEnterEvent>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMenu>
#include <QMimeData>
#include <QRegularExpression>
#include <QSettings>
#include <QSplitter>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/pages/sheet/rules_form.hpp"
#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

constexpr int fill_ms = 60;
constexpr double refused_rank = 1e6, waiting_rank = -2, passing_rank = -1;  // of a verdict: worst first
const char* const own_rules = "own";

/// A fault's number, or its limit, at the decimals that it is judged at.
QString value_of(const Fault& fault, std::optional<double> value) {
  if (!value) return QString::fromUtf8("\u2013");
  const BoundedNumber* known = bounded(fault.code);
  const QString digits =
      known ? number(*value, known->decimals) : QString::number(*value, 'g', 6).replace('-', QChar(0x2212));
  return digits + (fault.unit.empty() ? QString() : " " + QString::fromStdString(fault.unit));
}

/// With a real minus sign before numbers.
QString words_of(const Fault& fault) {
  static const QRegularExpression minus("-(?=[0-9])");
  return QString::fromStdString(fault.text).replace(minus, QChar(0x2212));
}

Cell verdict_cell(const SheetRow& r) {
  switch (r.state) {
    case SheetRow::State::waiting:
      return {QObject::tr("waits"), waiting_rank, {}, Role::soft};
    case SheetRow::State::checking:
      return {QObject::tr("is checked…"), waiting_rank, {}, Role::soft};
    case SheetRow::State::refused:
      return {QObject::tr("cannot be read"), refused_rank, r.sentence, Role::rust, true};
    case SheetRow::State::checked:
      break;
  }
  const auto faults = r.checked->faults.size();
  if (faults == 0) return {QObject::tr("passes"), passing_rank, {}, Role::moss};
  return {faults == 1 ? QObject::tr("fails") : QObject::tr("fails, %1 faults").arg(faults),
          double(faults),
          {},
          Role::rust,
          true};
}

Cell fault_cell(const SheetRow& r) {
  if (r.state == SheetRow::State::refused) return {r.sentence.section(": ", 1), {}, r.sentence};
  if (r.state != SheetRow::State::checked || r.checked->passes()) return {};
  QStringList all;
  for (const Fault& f : r.checked->faults) all << words_of(f);
  return {all.front(), {}, all.join("\n")};
}

/// A cell of what was measured, once it was.
template <class Of>
auto measured_cell(const std::vector<SheetRow>& rows, int decimals, Of of) {
  return [&rows, decimals, of](size_t n) {
    const SheetRow& r = rows[n];
    return r.state == SheetRow::State::checked ? number_cell(of(r.checked->measured), decimals) : Cell{};
  };
}

}  // namespace

SheetView::SheetView(Queue& queue, QWidget* parent)
    : QWidget(parent),
      run_(new SheetRun(queue, this)),
      listing_(queue),
      folder_(new FolderWatch(queue, this)),
      log_(watch_log_folder()) {
  setAcceptDrops(true);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 8, 8);
  rows->setSpacing(5);
  rows->addWidget(make_head());
  rows->addWidget(headline_ = answer_label(this, "limit"));
  rows->addWidget(make_watch_row());
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table();
  split->addWidget(table_);
  split->addWidget(make_lower());
  split->setSizes({380, 190});
  rows->addWidget(split, 1);
  fill_timer_.setSingleShot(true);
  fill_timer_.setInterval(fill_ms);
  connect(&fill_timer_, &QTimer::timeout, this, &SheetView::fill);
  connect(run_, &SheetRun::changed, this, &SheetView::fill);
  connect(run_, &SheetRun::advanced, this, [this] {
    if (!fill_timer_.isActive()) fill_timer_.start();
  });
  connect(run_, &SheetRun::checked, this, &SheetView::log_of);
  connect(run_, &SheetRun::progressed, this, [this](double fraction) {
    note_->setText(tr("checking, %1 to go (%2 %)").arg(run_->waiting() + 1).arg(int(100 * fraction)));
  });
  connect(run_, &SheetRun::rested, this, [this](const QString& how) {
    fill();
    note_->setText(how);
    if (const SheetRow* r = chosen(); !r || r->passes())  // the worst is in front
      if (table_->shown() > 0) table_->choose({table_->row_at(0)});
    emit rested();
  });
  connect(&listing_, &FolderListing::begun, this, [this] { note_->setText(tr("reading the folder…")); });
  connect(&listing_, &FolderListing::listed, this, &SheetView::take);
  connect(folder_, &FolderWatch::arrived, this, [this](const QString& file) {
    run_->add({file});
    run_->check_again(file);
  });
  connect(folder_, &FolderWatch::vanished, this, [this](const QString& folder) {
    log_line(folder, tr("folder"), tr("it is not there any more; it is watched again when it is back"));
  });
  connect(folder_, &FolderWatch::came_back, this,
          [this](const QString& folder) { log_line(folder, tr("folder"), tr("it is back")); });
  connect(&Theme::instance(), &Theme::changed, this, [this] { fill(); });
  reload();
  fill();
}

QWidget* SheetView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  row->addWidget(title_label(tr("Sheet"), head));
  row->addSpacing(6);
  row->addWidget(new QLabel(tr("against"), head));
  against_ = new QComboBox(head);
  against_->setAccessibleName(tr("What the files are checked against"));
  against_->setMaximumWidth(230);
  connect(against_, &QComboBox::activated, this, &SheetView::choose_against);
  row->addWidget(against_);
  auto* edit = new QPushButton(tr("Rules…"), head);
  edit->setToolTip(tr("Rules of your own: rates, word lengths, limits of every number, tags, file names"));
  connect(edit, &QPushButton::clicked, this, &SheetView::edit_rules);
  row->addWidget(edit);
  row->addWidget(note_ = note_label(head), 1);
  auto* more = new QToolButton(head);
  more->setText(tr("Add"));
  more->setPopupMode(QToolButton::InstantPopup);
  auto* menu = new QMenu(more);
  menu->addAction(tr("Files…"), this, &SheetView::add_files);
  menu->addAction(tr("A folder and all below it…"), this, [this] {
    if (const QString folder = choose_folder(this, tr("A folder of files to check")); !folder.isEmpty()) add({folder});
  });
  menu->addSeparator();
  menu->addAction(tr("Watch a folder for what arrives…"), this, &SheetView::choose_folder_to_watch);
  more->setMenu(menu);
  row->addWidget(more);
  auto* save = new QToolButton(head);
  save->setText(tr("Save"));
  save->setPopupMode(QToolButton::InstantPopup);
  auto* kinds = new QMenu(save);
  kinds->addAction(tr("As a page to send (HTML)…"), this, &SheetView::save_html);
  kinds->addAction(tr("As a table (CSV)…"), this, &SheetView::save_csv);
  save->setMenu(kinds);
  row->addWidget(save);
  check_ = new QPushButton(tr("Check again"), head);
  check_->setProperty("main", true);
  connect(check_, &QPushButton::clicked, this, [this] {
    if (run_->is_running()) return run_->stop();
    if (run_->waiting() == 0) run_->check_all_again();
    run_->start();
  });
  row->addWidget(check_);
  return head;
}

QWidget* SheetView::make_watch_row() {
  watch_row_ = new QWidget(this);
  auto* row = new QHBoxLayout(watch_row_);
  row->setContentsMargins(0, 0, 0, 0);
  row->addWidget(watch_words_ = new QLabel(watch_row_), 1);
  watch_words_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
  unwatch_ = new QPushButton(tr("Watch no longer"), watch_row_);
  connect(unwatch_, &QPushButton::clicked, this, [this] { watch({}); });
  row->addWidget(unwatch_);
  watch_row_->hide();
  return watch_row_;
}

void SheetView::make_table() {
  table_ = new ResultTable(tr("Files of the sheet"), this);
  const auto& rows = run_->rows();
  table_->set_columns(
      {{tr("Verdict"), {}, [&rows](size_t n) { return verdict_cell(rows[n]); }, false, 106},
       {tr("File"),
        {},
        [&rows](size_t n) {
          return Cell{QFileInfo(rows[n].file).fileName(), {}, rows[n].file};
        },
        false,
        210},
       {tr("What is wrong"), {}, [&rows](size_t n) { return fault_cell(rows[n]); }, false, app::Column::stretch},
       {tr("LUFS"), tr("Integrated loudness, LUFS"),
        measured_cell(rows, 1, [](const Measured& m) { return m.loudness.integrated_lufs; }), true, 56, "integrated"},
       {tr("dBTP"), tr("True peak, dBTP"),
        measured_cell(rows, 1, [](const Measured& m) { return m.loudness.true_peak_dbtp; }), true, 54, "true_peak"},
       {tr("LRA"), tr("Loudness range, LU"),
        measured_cell(
            rows, 1,
            [](const Measured& m) { return m.loudness.range ? std::optional(m.loudness.range->lu()) : std::nullopt; }),
        true, 46, "loudness_range"},
       {tr("kHz"), tr("Sample rate"),
        measured_cell(rows, 1, [](const Measured& m) { return std::optional(m.format.sample_rate_hz / 1000.0); }), true,
        52, "sample_rate"}});
  table_->sort_by(verdict_column, Qt::DescendingOrder);
  table_->setMinimumHeight(120);
  connect(table_, &ResultTable::chosen_changed, this, &SheetView::fill_faults);
  connect(table_, &ResultTable::opened, this, [this](size_t n, int) {
    const SheetRow& r = run_->rows()[n];
    const auto at = r.checked && !r.checked->faults.empty() ? r.checked->faults.front().at_s : std::nullopt;
    if (r.state == SheetRow::State::checked) emit jump_wanted(r.file, at.value_or(0));
  });
}

QWidget* SheetView::make_lower() {
  auto* lower = new QWidget(this);
  auto* rows = new QVBoxLayout(lower);
  rows->setContentsMargins(0, 4, 0, 0);
  rows->setSpacing(4);
  lower_ = new Chooser(lower);
  faults_ = new ResultTable(tr("What is wrong with the chosen file"), lower);
  faults_->setSelectionMode(QAbstractItemView::SingleSelection);
  faults_->set_columns({{tr("What is wrong"),
                         {},
                         [this](size_t n) { return Cell{words_of(shown_faults_[n])}; },
                         false,
                         app::Column::stretch},
                        {tr("Is"),
                         {},
                         [this](size_t n) {
                           const Fault& f = shown_faults_[n];
                           return Cell{value_of(f, f.value), f.value};
                         },
                         true,
                         110,
                         "limit"},
                        {tr("Limit"),
                         {},
                         [this](size_t n) {
                           const Fault& f = shown_faults_[n];
                           return Cell{value_of(f, f.limit), f.limit};
                         },
                         true,
                         110,
                         "limit"},
                        {tr("Where"), tr("Enter, or a double click, goes there"),
                         [this](size_t n) {
                           const auto at = shown_faults_[n].at_s;
                           return at ? Cell{position(*at, 2), *at, tr("Enter goes there")} : Cell{};
                         },
                         true, 90, "time"}});
  connect(faults_, &ResultTable::opened, this, [this](size_t n, int) { jump(n); });
  log_table_ = new ResultTable(tr("What the watched folder brought"), lower);
  const auto line = [this](auto of) { return [this, of](size_t n) { return Cell{of(log_.lines()[n])}; }; };
  log_table_->set_columns(
      {{tr("When"),
        {},
        [this](size_t n) {
          const QDateTime& when = log_.lines()[n].when;
          return Cell{QLocale::c().toString(when, "d MMM, HH:mm:ss"), double(when.toMSecsSinceEpoch())};
        },
        false,
        130},
       {tr("Verdict"), {}, line([](const WatchLog::Line& l) { return l.verdict; }), false, 106},
       {tr("File"),
        {},
        [this](size_t n) {
          const QString& file = log_.lines()[n].file;
          return Cell{QFileInfo(file).fileName(), {}, file};
        },
        false,
        210},
       {tr("What"), {}, line([](const WatchLog::Line& l) { return l.what; }), false, app::Column::stretch}});
  lower_->add(tr("What is wrong"), tr("Of the chosen file, each with its place"), faults_);
  lower_->add(tr("Log"), tr("What the watched folder brought, the latest first"), log_table_);
  rows->addWidget(lower_, 0, Qt::AlignLeft);
  rows->addWidget(lower_->pages(), 1);
  return lower;
}

void SheetView::reload() {
  outlets_ = known_outlets();
  against_->clear();
  for (const Outlet& o : outlets_) against_->addItem(QString::fromStdString(o.name), QString::fromStdString(o.key));
  against_->insertSeparator(against_->count());
  against_->addItem(tr("rules of my own"), own_rules);
  if (rules() == Rules{} && !outlets_.empty()) run_->set_rules(rules_of(outlets_.front()));
  if (rules().outlet)  // it may have been changed
    for (const Outlet& o : outlets_)
      if (o.key == rules().outlet->key) run_->set_rules(rules_of(o));
  show_against();
}

void SheetView::show_against() {
  const bool is_own = !rules().outlet;
  const int own = against_->findData(own_rules);
  if (!own_.name.empty()) against_->setItemText(own, QString::fromStdString(own_.name));
  against_->setCurrentIndex(is_own ? own : against_->findData(QString::fromStdString(rules().outlet->key)));
}

void SheetView::choose_against(int index) {
  const QString key = against_->itemData(index).toString();
  if (key == own_rules && own_ == Rules{}) {
    edit_rules();
    return show_against();
  }
  if (key == own_rules) return check_against(own_);
  for (const Outlet& o : outlets_)
    if (QString::fromStdString(o.key) == key) return check_against(rules_of(o));
}

void SheetView::check_against(const Rules& rules) {
  if (!rules.outlet) own_ = rules;
  run_->set_rules(rules);
  show_against();
  if (!folder_->folder().isEmpty()) remember_watching();
  run_->start();
}

void SheetView::edit_rules() {
  RulesForm form(own_, this);
  if (form.exec() == QDialog::Accepted) check_against(form.rules());
}

void SheetView::add(const QStringList& files_and_folders) { listing_.list(files_and_folders); }

void SheetView::take(const QStringList& files, const QStringList& refused) {
  run_->add(files);
  run_->start();
  if (!refused.isEmpty()) note_->setText(refused.front());
}

void SheetView::add_files() {
  if (const QStringList files = choose_audio_files(this); !files.isEmpty()) add(files);
}

void SheetView::add_folder() {
  if (const QString folder = choose_folder(this, tr("A folder to be measured")); !folder.isEmpty()) add({folder});
}

void SheetView::choose_folder_to_watch() {
  if (const QString folder = choose_folder(this, tr("A folder to be watched")); !folder.isEmpty()) watch(folder);
}

void SheetView::watch(const QString& folder) {
  folder_->watch(folder);
  remember_watching();
  watch_row_->setVisible(!folder.isEmpty());
  if (!folder.isEmpty()) lower_->choose(1);
  say_watch();
}

/// Of this machine and user: a bench that is passed on watches nothing.
void SheetView::remember_watching() const {
  QSettings settings;
  settings.beginGroup("sheet");
  settings.remove("");
  if (folder_->folder().isEmpty()) return;
  const Json against = rules().outlet ? Json{{"outlet", rules().outlet->key}} : rules_json(rules());
  settings.setValue("watched", folder_->folder());
  settings.setValue("against", QByteArray::fromStdString(against.dump()));
}

void SheetView::watch_again() {
  const QSettings settings;
  const QString folder = settings.value("sheet/watched").toString();
  if (folder.isEmpty()) return;
  std::optional<Rules> rules;
  try {
    const Json against = json_from(settings.value("sheet/against").toByteArray().toStdString());
    if (!against.contains("outlet")) rules = rules_from_json(against);
    for (const Outlet& o : outlets_)
      if (against.value("outlet", "") == o.key) rules = rules_of(o);
  } catch (const std::exception&) {  // of another version
  }
  if (!rules)  // nothing is judged by others than those
    return log_line(folder, tr("folder"), tr("it is not watched again: the rules of then are not there any more"));
  check_against(*rules);
  watch(folder);
  log_line(folder, tr("folder"), tr("it is watched again, as before the program ended"));
}

void SheetView::say_watch(const QString& trouble) {
  const QString words = !folder_->is_there()
                            ? tr("%1 is not there; it is watched again when it is back.").arg(folder_->folder())
                            : tr("%1 is watched: what arrives is checked.").arg(folder_->folder());
  watch_words_->setText(trouble.isEmpty() ? words : words + " " + trouble);
  watch_words_->setToolTip(
      tr("The log is kept in %1").arg(QString::fromStdString(log_.file_of(QDateTime::currentDateTime()).string())));
}

void SheetView::log_of(const QString& file) {
  if (folder_->folder().isEmpty() || !file.startsWith(folder_->folder() + "/")) return;
  for (const SheetRow& r : run_->rows()) {
    if (r.file != file) continue;
    const QString verdict = r.passes() ? tr("passes") : r.checked ? tr("fails") : tr("cannot be read");
    log_line(file, verdict, fault_cell(r).hint.replace('\n', ' '));
  }
}

void SheetView::log_line(const QString& file, const QString& verdict, const QString& what) {
  const bool kept = log_.add({QDateTime::currentDateTime(), file, verdict, what});
  say_watch(kept ? QString() : tr("The log cannot be written to the disk."));
  fill_log();
}

void SheetView::fill_log() { log_table_->set_rows(log_.lines().size()); }

void SheetView::fill() {
  table_->set_rows(run_->rows().size(), [this](size_t n) { return run_->rows()[n].file; });
  if (table_->chosen().empty() && table_->shown() > 0) table_->choose({table_->row_at(0)});
  fill_faults();
  check_->setText(run_->is_running() ? tr("Stop") : run_->waiting() > 0 ? tr("Check") : tr("Check again"));
  check_->setEnabled(!run_->rows().empty());
  say();
}

const SheetRow* SheetView::chosen() const {
  const auto rows = table_->chosen();
  return rows.empty() || rows.front() >= run_->rows().size() ? nullptr : &run_->rows()[rows.front()];
}

void SheetView::fill_faults() {
  const SheetRow* r = chosen();
  shown_faults_.clear();
  if (r && r->state == SheetRow::State::checked) shown_faults_ = r->checked->faults;
  if (r && r->state == SheetRow::State::refused) shown_faults_ = {{"unread", r->sentence.toStdString()}};
  faults_->set_rows(shown_faults_.size());
}

void SheetView::say() {
  size_t fail = 0, pass = 0;
  for (const SheetRow& r : run_->rows()) fail += r.fails(), pass += r.passes();
  const size_t all = run_->rows().size();
  if (all == 0)
    headline_->setText(
        tr("Which of them is wrong? Drop files or folders here, and choose what they are checked against."));
  else if (fail + pass == 0)
    headline_->setText(tr("%1 files wait.").arg(all));
  else if (fail == 0)
    headline_->setText(pass == all ? tr("All %1 pass.").arg(all) : tr("%1 of %2 pass so far.").arg(pass).arg(all));
  else
    headline_->setText(tr("%1 of %2 fail%3.").arg(fail).arg(all).arg(fail + pass < all ? tr(" so far") : QString()));
}

void SheetView::jump(size_t fault) {
  const SheetRow* r = chosen();
  if (r && r->state == SheetRow::State::checked && fault < shown_faults_.size())
    emit jump_wanted(r->file, shown_faults_[fault].at_s.value_or(0));
}

void SheetView::save_csv() { save_table(this, "sheet.csv", QString::fromStdString(sheet_csv(run_->entries()))); }

void SheetView::save_html() {
  const std::string title = rules().name.empty() ? "Sheet" : rules().name;
  save_as(this, {tr("Save the sheet"), "sheet.html", "HTML (*.html)", "html"},
          [&](const Destination& to) { write_whole(to, sheet_html(title, run_->entries())); });
}

void SheetView::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void SheetView::dropEvent(QDropEvent* event) { add(dropped_files(*event)); }

void SheetView::keyPressEvent(QKeyEvent* event) {
  if (event->key() != Qt::Key_Delete || !table_->hasFocus()) return QWidget::keyPressEvent(event);
  QStringList files;
  for (const size_t n : table_->chosen()) files << run_->rows()[n].file;
  run_->remove(files);
}

}  // namespace heathmist::app
