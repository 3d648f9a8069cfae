#include "app/pages/outlets/outlet_form.hpp"

#include <QCheckBox>
#include <QHBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/form_buttons.hpp"

namespace heathmist::app {

namespace {

/// A key from a name: small letters, digits and hyphens.
std::string key_of(const QString& name) {
  std::string key;
  for (const QChar c : name.toLower())
    if (c.unicode() < 128 && c.isLetterOrNumber())
      key += c.toLatin1();
    else if (!key.empty() && key.back() != '-')
      key += '-';
  while (key.ends_with('-')) key.pop_back();
  return key.empty() ? "outlet" : key;
}

}  // namespace

OutletForm::OutletForm(const Outlet& outlet, const std::vector<Chain>& chains, QWidget* parent)
    : QDialog(parent), before_(outlet), chains_(chains), rows_(new QFormLayout(this)) {
  setWindowTitle(outlet.key.empty() ? tr("A new outlet") : tr("Outlet: %1").arg(QString::fromStdString(outlet.name)));
  auto text = [&](const QString& caption, const std::string& value) {
    auto* edit = new QLineEdit(QString::fromStdString(value), this);
    edit->setMinimumWidth(320);
    rows_->addRow(caption, edit);
    return edit;
  };
  auto choice = [&](const QString& caption, const QStringList& words, int now) {
    auto* box = new QComboBox(this);
    box->addItems(words);
    box->setCurrentIndex(now);
    rows_->addRow(caption, box);
    return box;
  };
  name_ = text(tr("Name"), outlet.name);
  what_ = text(tr("What it is"), outlet.what);
  acts_ = choice(tr("Acts on"), {tr("the file: it must be at the target"), tr("playback: the player turns the gain")},
                 int(outlet.acts));
  level("target", tr("Target"), outlet.target_lufs, "LUFS");
  level("tolerance", tr("Tolerance, either way"), outlet.tolerance_lu, "LU");
  level("live", tr("Tolerance of live programmes"), outlet.live_tolerance_lu, "LU");
  level("peak", tr("Highest true peak"), outlet.max_true_peak_dbtp, "dBTP");
  level("short", tr("Highest short-term loudness"), outlet.max_short_term_lufs, "LUFS");
  level("momentary", tr("Highest momentary loudness"), outlet.max_momentary_lufs, "LUFS");
  turns_ = choice(tr("The player"), {tr("leaves the gain"), tr("turns down only"), tr("turns down and up")},
                  int(outlet.turns));
  level("ceiling", tr("A lift stops at true peaks of"), outlet.lift_ceiling_dbtp, "dBTP");
  rule_ = choice(tr("Gain is taken from"), {tr("each track"), tr("the album"), tr("the album's loudest track")},
                 int(outlet.rule));
  QStringList encodes{tr("no encode")};
  if (outlet.encode) encodes << tr("as now: %1").arg(QString::fromStdString(label_of(*outlet.encode)));
  for (const Chain& chain : chains_) encodes << QString::fromStdString(title_of(chain));
  encode_ = choice(tr("Encode"), encodes, outlet.encode ? 1 : 0);
  fault_ = new QLabel(this);
  fault_->setWordWrap(true);
  rows_->addRow(fault_);
  rows_->addRow(form_buttons(this, tr("Save")).box);
}

/// A number that may be there or not; the target always is.
NumberField* OutletForm::level(const char* name, const QString& caption, std::optional<double> value,
                               const QString& unit) {
  auto* cell = new QWidget(this);
  auto* row = new QHBoxLayout(cell);
  row->setContentsMargins(0, 0, 0, 0);
  auto* field = new NumberField(cell);
  field->setObjectName(name);
  field->setRange(unit == "LU" ? 0 : -70, unit == "LU" ? 20 : 12);
  field->setDecimals(1);
  field->setSuffix(" " + unit);
  field->setValue(value.value_or(unit == "LU" ? 1 : -1));
  field->setAccessibleName(caption);
  if (unit != "LUFS" || QString(name) != "target") {
    auto* there = new QCheckBox(cell);
    there->setObjectName(QString(name) + "There");
    there->setChecked(value.has_value());
    there->setAccessibleName(tr("%1: asked for").arg(caption));
    field->setEnabled(value.has_value());
    connect(there, &QCheckBox::toggled, field, &QWidget::setEnabled);
    row->addWidget(there);
  }
  row->addWidget(field);
  row->addStretch();
  rows_->addRow(caption, cell);
  return field;
}

std::optional<double> OutletForm::value_of(const char* name) const {
  const auto* there = findChild<QCheckBox*>(QString(name) + "There");
  if (there && !there->isChecked()) return {};
  return findChild<NumberField*>(name)->value();
}

Outlet OutletForm::outlet() const {
  Outlet o = before_;
  o.shipped = false;
  o.name = name_->text().trimmed().toStdString();
  o.what = what_->text().trimmed().toStdString();
  if (o.key.empty()) o.key = key_of(name_->text());
  o.acts = Outlet::Acts(acts_->currentIndex());
  o.turns = Outlet::Turns(turns_->currentIndex());
  o.rule = Outlet::Rule(rule_->currentIndex());
  o.target_lufs = *value_of("target");
  o.tolerance_lu = value_of("tolerance"), o.live_tolerance_lu = value_of("live");
  o.max_true_peak_dbtp = value_of("peak"), o.max_short_term_lufs = value_of("short");
  o.max_momentary_lufs = value_of("momentary"), o.lift_ceiling_dbtp = value_of("ceiling");
  const int own = before_.encode ? 2 : 1, chosen = encode_->currentIndex();
  if (chosen == 0) o.encode.reset();
  if (chosen >= own) o.encode = chains_[size_t(chosen - own)];
  return outlet_from_json(o.key, outlet_json(o));
}

void OutletForm::accept() {
  try {
    outlet();
    QDialog::accept();
  } catch (const OutletError& error) {
    fault_->setText(QString::fromUtf8(error.what()));
  }
}

}  // namespace heathmist::app
