#include "app/pages/outlets/outlets_view.hpp"

#include <QMenu>
#include <QMessageBox>
#include <QToolButton>
#include <QVBoxLayout>
#include <set>

#include "app/pages/outlets/outlet_form.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

QString signed_db(double value, int decimals = 1) { return (value > 0 ? "+" : "") + number(value, decimals); }

QString dash() { return QString::fromUtf8("\u2013"); }

/// "−1.26 of −1.0"
Cell peak_cell(const Delivery& delivery, const Outlet& outlet) {
  Cell cell = number_cell(delivery.true_peak_dbtp, 2);
  if (!outlet.max_true_peak_dbtp || !delivery.true_peak_dbtp) return cell;
  cell.text += QObject::tr(" of %1").arg(number(*outlet.max_true_peak_dbtp, 1));
  if (delivery.has_fault("true_peak_dbtp") || delivery.has_fault("true_peak_after_encode_dbtp")) cell.ink = Role::rust;
  return cell;
}

Cell signed_cell(std::optional<double> value) { return value ? Cell{signed_db(*value), value} : Cell{dash()}; }

}  // namespace

OutletsView::OutletsView(Queue& queue, LoudnessReadings& measured, QWidget* parent)
    : QWidget(parent), measured_(measured), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 8, 8);
  rows->setSpacing(5);
  rows->addWidget(make_head());
  headline_ = answer_label(this);
  rows->addWidget(headline_);
  make_table();
  rows->addWidget(table_, 1);
  rows->addWidget(new LevelLineKey(this));
  auto* told = new QGridLayout;
  told->setColumnStretch(1, 1);
  told->setHorizontalSpacing(12);
  int row = 0;
  for (const auto& [caption, label] : {std::pair{tr("The file"), &file_words_}, {tr("The player"), &player_words_}}) {
    auto* head = new QLabel(caption, this);
    head->setFont(face(Type::body, true));
    *label = new QLabel(this);
    (*label)->setWordWrap(true);
    (*label)->setMinimumHeight(34);
    (*label)->setAlignment(Qt::AlignLeft | Qt::AlignTop);
    told->addWidget(head, row, 0, Qt::AlignTop);
    told->addWidget(*label, row++, 1);
  }
  auto* head = new QLabel(tr("Listeners"), this);
  head->setFont(face(Type::body, true));
  told->addWidget(head, row, 0, Qt::AlignTop);
  told->addWidget(listeners_ = new ListenersRow(queue, this), row, 1);
  rows->addLayout(told);
  connect(&measured_, &LoudnessReadings::measured, this, [this] {
    stale_ = !isVisible();
    if (!stale_) fill();
  });
  for (QLabel* words : {headline_, file_words_, player_words_}) set_term(words, "heard_at");
  connect(&measured_, &LoudnessReadings::rows_changed, this, &OutletsView::fill);
  connect(&Theme::instance(), &Theme::changed, this, [this] { fill(); });
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { note_->setText(work_.in_words(tr("encoding"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    fill();
    note_->setText(how_it_ended(outcome, failure));
    emit rested();
  });
  reload();
}

QWidget* OutletsView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto* title = title_label(tr("Outlets"), head);
  row->addWidget(title);
  row->addSpacing(6);
  master_ = new QComboBox(head);
  master_->setAccessibleName(tr("Which master"));
  outlet_ = new QComboBox(head);
  outlet_->setAccessibleName(tr("Which outlet"));
  for (QComboBox* box : {master_, outlet_}) {
    box->setMaximumWidth(190);
    box->setMinimumWidth(124);
    connect(box, &QComboBox::currentIndexChanged, this, &OutletsView::fill);
    row->addWidget(box);
  }
  album_ = new QCheckBox(tr("as albums"), head);
  album_->setToolTip(tr("Masters of one album count together where an outlet has a rule for albums"));
  live_ = new QCheckBox(tr("live"), head);
  live_->setToolTip(tr("The tolerance of live programmes counts, where the outlet has one"));
  for (QCheckBox* box : {album_, live_}) {
    connect(box, &QCheckBox::toggled, this, &OutletsView::fill);
    row->addWidget(box);
  }
  note_ = note_label(head);
  row->addWidget(note_, 1);
  auto* own = new QToolButton(head);
  own->setText(tr("Edit outlets"));
  own->setPopupMode(QToolButton::InstantPopup);
  auto* menu = new QMenu(own);
  menu->addAction(tr("Edit the chosen row's outlet…"), this, [this] { edit(false); });
  menu->addAction(tr("A new outlet…"), this, [this] { edit(true); });
  menu->addAction(tr("Take my own version of it away"), this, &OutletsView::drop);
  own->setMenu(menu);
  row->addWidget(own);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, &OutletsView::save_csv);
  row->addWidget(save);
  run_ = new QPushButton(tr("Encode too"), head);
  run_->setProperty("main", true);
  run_->setToolTip(tr("Send what is shown through its outlets' encodes, and judge what is heard after them"));
  connect(run_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : run_encodes(); });
  row->addWidget(run_);
  return head;
}

void OutletsView::make_table() {
  table_ = new ResultTable(tr("What each outlet makes of each master"), this);
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  const auto of = [this](auto what) { return [this, what](size_t n) -> Cell { return what(lines_[n]); }; };
  table_->set_columns(
      {{tr("Master"), {}, of([](const Line& l) { return Cell{l.master}; }), false, 116},
       {tr("Kind"), tr("Broadcast wants the file itself at the target; a player turns the gain; stand-ins are made up"),
        of([](const Line& l) {
          const OutletGroup group = group_of(l.outlet);
          return Cell{tr(name_of(group)), double(group), {}, Role::soft};
        }),
        false, 76},
       {tr("Outlet"),
        {},
        of([](const Line& l) {
          return Cell{QString::fromStdString(l.outlet.name), {}, QString::fromStdString(l.outlet.what)};
        }),
        false,
        150},
       {tr("−36 to −6 LUFS"), tr("The file and where it is heard, beside the target and its tolerance"),
        of([this](const Line& l) {
          const LevelLine line = line_of(l);
          return Cell{{}, line.heard, words_of(line), {}, false, QVariant::fromValue(line)};
        }),
        false, app::Column::stretch, "heard_at"},
       {tr("File must change by"),
        tr("What the file itself would have to be turned by, dB; only where it must be at the target"),
        of([](const Line& l) { return signed_cell(l.delivery.file_change_db); }), true, 128, "file_change"},
       {tr("Player"), tr("What the player turns by, dB; the file stays as it is"), of([](const Line& l) {
          return signed_cell(l.outlet.turns == Outlet::Turns::none ? std::nullopt : std::optional(l.delivery.gain_db));
        }),
        true, 58, "player_gain"},
       {tr("Heard at"), tr("Integrated loudness as it is heard, LUFS"),
        of([](const Line& l) { return number_cell(l.delivery.loudness_lufs, 1); }), true, 66, "heard_at"},
       {tr("True peak"), tr("True peak as it is heard, of the highest that is allowed, dBTP"),
        of([](const Line& l) { return peak_cell(l.delivery, l.outlet); }), true, 98, "true_peak"},
       {tr("Verdict"), {}, of([this](const Line& l) { return verdict_of(l); }), false, 168}});
  table_->setItemDelegateForColumn(line_column, new LevelLinePainter(table_));
  table_->sort_by(group_column, Qt::AscendingOrder);
  connect(table_, &ResultTable::chosen_changed, this, &OutletsView::say);
}

void OutletsView::follow(const std::string& master_id) {
  const int at = master_->findData(QString::fromStdString(master_id));
  if (followed_ == master_id || at <= 0) return;
  followed_ = master_id;
  master_->setCurrentIndex(at);
}

void OutletsView::go_to(const std::string& key) {
  outlet_->setCurrentIndex(0);  // all of them
  const auto line = std::find_if(lines_.begin(), lines_.end(), [&](const Line& l) { return l.outlet.key == key; });
  if (line != lines_.end()) table_->choose({size_t(line - lines_.begin())});
}

void OutletsView::reload() {
  std::vector<std::string> refused;
  outlets_ = known_outlets(&refused);
  const QString before = outlet_->currentData().toString();
  const QSignalBlocker quiet(outlet_);
  outlet_->clear();
  outlet_->addItem(tr("all outlets"), "");
  for (const Outlet& o : outlets_) outlet_->addItem(QString::fromStdString(o.name), QString::fromStdString(o.key));
  outlet_->setCurrentIndex(std::max(0, outlet_->findData(before)));
  fill();
  if (!refused.empty()) note_->setText(QString::fromStdString(refused.front()));
}

void OutletsView::show_bench(const Bench& bench) {
  if (bench.masters == bench_.masters && bench.chains == bench_.chains) return;
  const auto before_masters = std::exchange(bench_, bench).masters;
  for (const Master& m : before_masters)  // what was encoded of another file is no longer its own
    if (const Master* now = bench_.master(m.id); !now || now->audio.file != m.audio.file) {
      std::erase_if(encoded_, [&](const auto& entry) { return entry.first.first == m.id; });
      std::erase_if(failures_, [&](const auto& entry) { return entry.first.first == m.id; });
    }
  const QString before = master_->count() ? master_->currentData().toString() : QString("first");
  const QSignalBlocker quiet(master_);
  master_->clear();
  master_->addItem(tr("all masters"), "");
  for (const Master& m : bench_.masters) master_->addItem(QString::fromStdString(m.name), QString::fromStdString(m.id));
  const int at = before == "first" ? std::min(1, master_->count() - 1) : master_->findData(before);
  master_->setCurrentIndex(std::max(0, at));
  fill();
}

std::shared_ptr<const AlbumLevels> OutletsView::album_of_master(const Master& master) {
  if (!album_->isChecked()) return nullptr;
  auto& levels = albums_[master.album];
  if (levels) return levels;
  std::vector<const Loudness*> masters;
  for (const Master& m : bench_.masters)
    if (const LoudnessRow* row = measured_.row(m.id); row && row->measured && m.album == master.album)
      masters.push_back(&row->measured->loudness);
  return levels = std::make_shared<const AlbumLevels>(album_levels(masters));
}

void OutletsView::fill() {
  const QString only_master = master_->currentData().toString(), only_outlet = outlet_->currentData().toString();
  lines_.clear();
  albums_.clear();
  for (const Master& m : bench_.masters) {
    if (!only_master.isEmpty() && only_master.toStdString() != m.id) continue;
    const LoudnessRow* row = measured_.row(m.id);
    if (!row || !row->measured) continue;
    const auto album = album_of_master(m);
    for (const Outlet& o : outlets_) {
      if (!only_outlet.isEmpty() && only_outlet.toStdString() != o.key) continue;
      const auto place = std::pair{m.id, o.key};
      const auto made = encoded_.find(place);
      const auto encoded = made == encoded_.end() ? nullptr : made->second;
      const auto failed = failures_.find(place);
      lines_.push_back({m.id, QString::fromStdString(m.name), m.audio.file, o,
                        deliver(o, row->measured->loudness,
                                {album.get(), encoded ? &encoded->loudness : nullptr, live_->isChecked(),
                                 row->dialogue ? std::optional(row->dialogue->lufs) : std::nullopt}),
                        row->measured, encoded, failed == failures_.end() ? QString() : failed->second});
    }
  }
  {
    const QSignalBlocker quiet(table_);
    show_columns();
    table_->set_rows(lines_.size(), [this](size_t n) {
      return QString::fromStdString(lines_[n].master_id + "/" + lines_[n].outlet.key);
    });
    if (!lines_.empty() && table_->chosen().empty()) table_->choose({0});
  }
  run_->setText(work_.is_running() ? tr("Cancel") : tr("Encode too"));
  if (!work_.is_running())
    note_->setText(measured_.is_running()   ? tr("measuring…")
                   : bench_.masters.empty() ? tr("drop masters on the ledger")
                                            : QString());
  say();
  say_album();
}

LevelLine OutletsView::line_of(const Line& line) const {
  const Delivery& d = line.delivery;
  return {line.outlet.target_lufs,
          tolerance_of(line.outlet, live_->isChecked()),
          d.anchor_lufs ? d.anchor_lufs : line.own->loudness.integrated_lufs,
          line.outlet.turns == Outlet::Turns::none && !line.encoded ? std::nullopt : d.loudness_lufs,
          d.file_change_db.has_value() && d.has_fault("integrated_lufs"),
          d.limited == Delivery::Limited::ceiling};
}

Cell OutletsView::verdict_of(const Line& line) const {
  const Delivery& d = line.delivery;
  const bool good = d.passes() && line.failure.isEmpty();
  QStringList all;
  for (const auto& fault : d.faults) all << QString::fromStdString(fault.text);
  return {!line.failure.isEmpty() ? line.failure
          : good                  ? tr("passes")
                                  : all.front().section(',', 0, 0),  // in full below
          {},
          all.join('\n'),
          good ? Role::moss : Role::rust};
}

void OutletsView::say() {
  const auto rows = table_->chosen();
  if (rows.empty()) {
    file_words_->clear();
    player_words_->clear();
    listeners_->set_subject({});
    headline_->setText(bench_.masters.empty() ? tr("What will become of it where it is going?") : tr("Measuring…"));
    return;
  }
  const Line& line = lines_[rows.front()];
  const Delivery& d = line.delivery;
  const Outlet& o = line.outlet;
  const auto measured = d.anchor_lufs ? d.anchor_lufs : line.own->loudness.integrated_lufs;
  const QString loud = measured ? number(*measured, 1) + " LUFS" : tr("silence");
  QString file = d.file_change_db ? tr("%1 wants the file itself at %2 LUFS. It is at %3: turn it by %4 dB.")
                                        .arg(QString::fromStdString(o.name), number(o.target_lufs, 1), loud,
                                             signed_db(*d.file_change_db))
                                  : tr("The file stays as it is, at %1.").arg(loud);
  for (const auto& fault : d.faults) file += " " + QString::fromStdString(fault.text);
  if (!d.note.empty()) file += " " + QString::fromStdString(d.note);
  if (!o.edition.empty()) file += " " + tr("Numbers: %1.").arg(QString::fromStdString(o.edition));
  if (o.encode)
    file += " " + (line.encoded
                       ? tr("It is sent as %1: judged after that.").arg(QString::fromStdString(label_of(*o.encode)))
                       : tr("It is sent as %1, which is not in these numbers yet.")
                             .arg(QString::fromStdString(label_of(*o.encode))));
  file_words_->setText(file);
  QString player =
      o.turns == Outlet::Turns::none
          ? tr("Plays it as it comes: heard at %1 LUFS.").arg(d.loudness_lufs ? number(*d.loudness_lufs, 1) : dash())
          : tr("Turns it by %1 dB: heard at %2 LUFS, target %3.")
                .arg(signed_db(d.gain_db), d.loudness_lufs ? number(*d.loudness_lufs, 1) : dash(),
                     number(o.target_lufs, 1));
  if (d.limited == Delivery::Limited::down_only) player += " " + tr("It does not lift what is quiet.");
  if (d.limited == Delivery::Limited::ceiling)
    player +=
        " " +
        tr("It lifts no further, as true peaks would pass %1 dBTP.").arg(number(o.lift_ceiling_dbtp.value_or(0), 1));
  player_words_->setText(player);
  listeners_->set_subject(ListenersRow::Subject{line.master_id, line.file, o, d.gain_db});
  say_all();
}

/// Of one file in one sentence; of several how many pass.
void OutletsView::say_all() {
  if (!master_->currentData().toString().isEmpty()) {
    std::vector<std::pair<Outlet, Delivery>> all;
    for (const Line& l : lines_) all.emplace_back(l.outlet, l.delivery);
    headline_->setText(QString::fromStdString(sentence_of(all)).replace(" -", QString(" %1").arg(QChar(0x2212))));
    return;
  }
  size_t passed = 0;
  for (const Line& l : lines_) passed += l.delivery.passes();
  headline_->setText(tr("%1 of %2 pass.").arg(passed).arg(lines_.size()));
}

/// What has no room folds away, the least telling first.
void OutletsView::show_columns() {
  const bool one_master = !master_->currentData().toString().isEmpty(),
             one_outlet = !outlet_->currentData().toString().isEmpty();
  table_->fold(master_column, one_master);
  table_->fold(outlet_column, one_outlet && !one_master);
  table_->fold(group_column, one_outlet || width() < 960);
}

void OutletsView::resizeEvent(QResizeEvent* event) {
  QWidget::resizeEvent(event);
  show_columns();
}

/// What the album is together, and which rule keeps its quiet song quiet.
void OutletsView::say_album() {
  if (!album_->isChecked() || bench_.masters.empty()) return;
  const QString only = master_->currentData().toString();
  const Master* one = only.isEmpty() ? &bench_.masters.front() : bench_.master(only.toStdString());
  if (!one) return;
  const auto album = album_of_master(*one);
  if (!album || !album->whole.integrated_lufs || album->loudest_lufs == album->quietest_lufs) return;
  const Loudness& whole = album->whole;
  headline_->setText(headline_->text() + " " +
                     tr("The album%1: %2 LUFS, %3 dBTP. A gain for the album keeps its quietest song %4 LU under the "
                        "loudest; a gain for each track makes them equal.")
                         .arg(one->album.empty() ? QString() : " " + QString::fromStdString(one->album),
                              number(*whole.integrated_lufs, 1), number(whole.true_peak_dbtp.value_or(0), 2),
                              number(*album->loudest_lufs - *album->quietest_lufs, 1)));
}

void OutletsView::run_encodes() {
  struct Order {
    std::pair<std::string, std::string> place;
    std::filesystem::path file;
    Chain chain;
  };
  std::vector<Order> orders;
  for (const Line& line : lines_)
    if (line.outlet.encode && !line.encoded)
      orders.push_back({{line.master_id, line.outlet.key}, line.file, *line.outlet.encode});
  if (orders.empty()) {
    note_->setText(tr("no outlet shown has an encode that was not run"));
    return;
  }
  work_.start([this, orders](const Job& job, const Tell& tell) {
    for (size_t k = 0; k < orders.size(); ++k) {
      std::shared_ptr<const Measured> made;
      QString failure;
      try {
        made = std::make_shared<Measured>(measure_return(
            orders[k].file, orders[k].chain,
            job.part(double(k) / double(orders.size()), double(k + 1) / double(orders.size())), grant_here()));
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {
        failure = QString::fromUtf8(error.what());
      }
      tell([this, place = orders[k].place, made, failure] {
        encoded_[place] = made;
        failures_[place] = failure;
        fill();
      });
    }
  });
  fill();
}

const Outlet* OutletsView::chosen_outlet() const {
  const auto rows = table_->chosen();
  return rows.empty() ? nullptr : &lines_[rows.front()].outlet;
}

void OutletsView::edit(bool fresh) {
  const Outlet* chosen = chosen_outlet();
  Outlet outlet = chosen ? *chosen : Outlet{};
  if (fresh) outlet.key.clear(), outlet.name.clear(), outlet.shipped = false;
  OutletForm form(outlet, bench_.chains, this);
  if (form.exec() != QDialog::Accepted) return;
  try {
    const Outlet changed = form.outlet();
    std::erase_if(encoded_, [&](const auto& entry) { return entry.first.second == changed.key; });
    std::erase_if(failures_, [&](const auto& entry) { return entry.first.second == changed.key; });
    save_outlet(changed);
    reload();
  } catch (const std::exception& error) {
    QMessageBox::warning(this, tr("The outlet was not saved"), QString::fromUtf8(error.what()));
  }
}

void OutletsView::drop() {
  const Outlet* chosen = chosen_outlet();
  if (!chosen) return;
  const bool gone = drop_outlet(chosen->key);
  reload();
  if (!gone) note_->setText(tr("this one ships with the program"));
}

QString OutletsView::csv() const {
  std::vector<Json> rows;
  for (const Line& line : lines_) {
    rows.push_back(delivery_json(line.outlet, line.delivery));
    rows.back()["file"] = line.master.toStdString();
  }
  return QString::fromStdString(csv_of(rows));
}

void OutletsView::showEvent(QShowEvent* event) {
  if (std::exchange(stale_, false)) fill();
  QWidget::showEvent(event);
}

void OutletsView::save_csv() { save_table(this, "outlets.csv", csv()); }

}  // namespace heathmist::app
