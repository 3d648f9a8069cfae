#include "app/pages/null/stage_form.hpp"

#include <QCheckBox>
#include <QComboBox>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMessageBox>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/number_field.hpp"
#include "app/widgets/saving.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

constexpr int per_row = 6;

QString spoken(const std::string& key) {
  QString words = QString::fromStdString(key);
  for (const char* unit : {"_db", "_dbtp", "_dbfs", "_hz", "_kbps", "_ms", "_s", "_ppm", "_lufs", "_samples"})
    if (words.endsWith(unit)) {
      words.chop(int(strlen(unit)));
      break;
    }
  return words.replace('_', ' ').replace(0, 1, words.left(1).toUpper());
}

std::vector<std::string> counting(const Stage& stage) {
  std::vector<std::string> keys;
  if (const StageType* type = stage_type(stage.type))
    for (const Parameter& p : type->parameters)
      if (counts(p, stage)) keys.push_back(p.key);
  return keys;
}

int decimals_for(const Parameter& p) {
  if (p.kind == Parameter::Kind::whole) return 0;
  return p.high - p.low > 2000 ? 2 : p.unit == "samples" ? 3 : 2;
}

QString range_of(const Parameter& p) {
  if (p.kind != Parameter::Kind::number && p.kind != Parameter::Kind::whole) return {};
  return QString::fromUtf8(" · ") + QObject::tr("%1 to %2 %3")
                                        .arg(number(p.low, p.low == std::floor(p.low) ? 0 : 2),
                                             number(p.high, p.high == std::floor(p.high) ? 0 : 2),
                                             QString::fromStdString(p.unit));
}

}  // namespace

StageForm::StageForm(QWidget* parent) : QWidget(parent), grid_(new QGridLayout(this)) {
  grid_->setContentsMargins(12, 2, 8, 6);
  grid_->setHorizontalSpacing(14);
  grid_->setVerticalSpacing(4);
}

void StageForm::show_stage(const Stage& stage) {
  if (stage == stage_ && !shown_.empty()) return;
  stage_ = stage;
  build();
}

void StageForm::build() {
  while (QLayoutItem* item = grid_->takeAt(0)) {
    if (item->widget()) item->widget()->deleteLater();
    delete item;
  }
  shown_ = counting(stage_);
  const StageType* type = stage_type(stage_.type);
  int place = 0;
  for (const std::string& key : shown_) {
    QWidget* cell = field(*type->parameter(key));
    cell->show();
    grid_->addWidget(cell, place / per_row, place % per_row);
    ++place;
  }
  for (int column = 0; column < per_row; ++column) grid_->setColumnStretch(column, 1);
}

void StageForm::put(const std::string& key, const Json& value) {
  stage_.values[key] = value;
  if (counting(stage_) != shown_) QMetaObject::invokeMethod(this, &StageForm::build, Qt::QueuedConnection);
  emit changed(stage_);
}

QWidget* StageForm::field(const Parameter& p) {
  auto* cell = new QWidget(this);
  auto* rows = new QVBoxLayout(cell);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(1);
  auto* caption = new QLabel(
      spoken(p.key) + (p.unit.empty() || p.key == p.unit + "s" ? QString() : ", " + QString::fromStdString(p.unit)),
      cell);
  caption->setFont(face(Type::small));
  caption->setProperty("soft", true);
  const Json value = stage_.values.contains(p.key) ? stage_.values[p.key] : p.initial;
  QWidget* editor = nullptr;
  switch (p.kind) {
    case Parameter::Kind::number:
    case Parameter::Kind::whole:
      editor = number_field(p, value);
      break;
    case Parameter::Kind::choice:
      editor = choice_field(p, value);
      break;
    case Parameter::Kind::flag: {
      auto* box = new QCheckBox(tr("on"), cell);
      box->setChecked(value.is_boolean() && value.get<bool>());
      connect(box, &QCheckBox::toggled, this, [this, key = p.key](bool on) { put(key, on); });
      editor = box;
      break;
    }
    default:
      editor = text_field(p, value);
  }
  const QString hint = QString::fromStdString(p.what) + range_of(p);
  editor->setToolTip(hint);
  caption->setToolTip(hint);
  editor->setAccessibleName(spoken(p.key));
  editor->setObjectName(QString::fromStdString(p.key));
  rows->addWidget(caption);
  rows->addWidget(editor);
  rows->addStretch();
  return cell;
}

QWidget* StageForm::number_field(const Parameter& p, const Json& value) {
  auto* box = new NumberField(this);
  box->setRange(p.low, p.high);
  box->setDecimals(decimals_for(p));
  box->setSingleStep(p.kind == Parameter::Kind::whole || p.high - p.low > 50 ? 1 : 0.1);
  if (p.key == "bit_rate_kbps") box->setSingleStep(16);
  box->setValue(value.is_number() ? value.get<double>() : p.initial.get<double>());
  connect(box, &QDoubleSpinBox::valueChanged, this,
          [this, key = p.key, whole = p.kind == Parameter::Kind::whole](double v) {
            put(key, whole ? Json(int64_t(v)) : Json(v));
          });
  return box;
}

QWidget* StageForm::choice_field(const Parameter& p, const Json& value) {
  auto* box = new QComboBox(this);
  for (const auto& choice : p.choices) box->addItem(QString::fromStdString(choice).replace('_', ' '));
  const auto at = std::find(p.choices.begin(), p.choices.end(), value.is_string() ? value.get<std::string>() : "");
  box->setCurrentIndex(at == p.choices.end() ? -1 : int(at - p.choices.begin()));
  connect(box, &QComboBox::currentIndexChanged, this, [this, key = p.key, choices = p.choices](int index) {
    if (index >= 0) put(key, choices[size_t(index)]);
  });
  return box;
}

/// Where the encoded file is to be kept; choosing it here is leave to keep files in its folder.
QString StageForm::file_to_keep() {
  const QString file = QFileDialog::getSaveFileName(this, tr("Keep the encoded file as"), {}, {}, nullptr,
                                                    QFileDialog::DontConfirmOverwrite);
  if (file.isEmpty()) return {};
  try {
    check(Destination(file.toStdString(), false, files_in_use()));
    Stage kept = stage_;
    kept.values["keep"] = file.toStdString();
    arm(kept);
    return file;
  } catch (const std::exception& error) {
    QMessageBox::warning(this, tr("It cannot be kept there"), QString::fromUtf8(error.what()));
    return {};
  }
}

QWidget* StageForm::text_field(const Parameter& p, const Json& value) {
  auto* edit = new QLineEdit(this);
  edit->setText(value.is_string() ? QString::fromStdString(value.get<std::string>()) : QString());
  edit->setPlaceholderText(p.kind == Parameter::Kind::file ? tr("none") : QString());
  connect(edit, &QLineEdit::editingFinished, this, [this, edit, key = p.key] {
    const std::string now = edit->text().toStdString();
    if (!stage_.values.contains(key) ? now.empty() : stage_.values[key] == Json(now)) return;
    put(key, now);
  });
  if (p.kind != Parameter::Kind::file) return edit;
  auto* button = new QToolButton(this);
  button->setText(QString(QChar(0x2026)));
  button->setToolTip(tr("Choose a file"));
  auto* both = new QWidget(this);
  auto* row = new QHBoxLayout(both);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(2);
  row->addWidget(edit, 1);
  row->addWidget(button);
  connect(button, &QToolButton::clicked, this, [this, edit, to = p.key == "keep", key = p.key] {
    const QString file = to ? file_to_keep() : QFileDialog::getOpenFileName(this, tr("Choose a file"));
    if (file.isEmpty()) return;
    edit->setText(file);
    put(key, file.toStdString());
  });
  return both;
}

}  // namespace heathmist::app
