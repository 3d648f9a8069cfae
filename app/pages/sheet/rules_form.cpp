#include "app/pages/sheet/rules_form.hpp"

#include <QFileDialog>
#include <QFormLayout>
#include <QHeaderView>
#include <QPushButton>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/form_buttons.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/list_text.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

enum { name_column, least_column, most_column, unit_column };
constexpr int columns = 4;

/// A number as it was typed, with either minus sign and a comma or a point.
Json number_in(const QTableWidgetItem* item) {
  const QString text = item ? item->text().trimmed().replace(QChar(0x2212), '-').replace(',', '.') : QString();
  if (text.isEmpty()) return nullptr;
  bool is_number = false;
  const double value = text.toDouble(&is_number);
  return is_number && std::isfinite(value) ? Json(value) : Json(text.toStdString());
}

QString shortest(double value) { return QString::number(value, 'g', 9).replace('-', QChar(0x2212)); }

}  // namespace

RulesForm::RulesForm(const Rules& rules, QWidget* parent) : QDialog(parent) {
  setWindowTitle(tr("Rules of the sheet"));
  auto* rows = new QVBoxLayout(this);
  auto* beside = new QHBoxLayout;
  beside->addWidget(make_fields());
  make_bounds();
  beside->addWidget(bounds_, 1);
  rows->addLayout(beside, 1);
  fault_ = new QLabel(this);
  fault_->setObjectName("fault");
  fault_->setWordWrap(true);
  rows->addWidget(fault_);
  rows->addWidget(make_buttons());
  resize(880, 560);
  show_rules(rules);
}

QWidget* RulesForm::make_fields() {
  auto* fields = new QWidget(this);
  auto* rows = new QFormLayout(fields);
  rows->setContentsMargins(0, 0, 10, 0);
  rows->setRowWrapPolicy(QFormLayout::WrapAllRows);
  const auto text = [&](const QString& caption, const char* name, const QString& example) {
    auto* edit = new QLineEdit(fields);
    edit->setObjectName(name);
    edit->setPlaceholderText(example);
    edit->setMinimumWidth(250);
    rows->addRow(caption, edit);
    return edit;
  };
  name_ = text(tr("Name"), "name", tr("House masters"));
  rates_ = text(tr("Sample rates, Hz"), "rates", tr("any; or 44100, 96000"));
  bits_ = text(tr("Word lengths, bit"), "bits", tr("any; or 24"));
  channels_ = text(tr("Channels"), "channels", tr("any; or 2"));
  codecs_ = text(tr("Codecs"), "codecs", tr("any; or pcm, flac"));
  tags_ = text(tr("Tags that must be there"), "tags", tr("none; or TITLE, ISRC"));
  file_name_ = text(tr("File names, as a regular expression"), "fileName", "[0-9]{2} .+\\.wav");
  lossy_ = new QCheckBox(tr("No lossy files, and none that were lossy once"), fields);
  upsampled_ = new QCheckBox(tr("None that come from a lower rate"), fields);
  rows->addRow(lossy_);
  rows->addRow(upsampled_);
  return fields;
}

void RulesForm::make_bounds() {
  bounds_ = new QTableWidget(int(bounded().size()), columns, this);
  bounds_->setAccessibleName(tr("Numbers and their limits"));
  bounds_->setHorizontalHeaderLabels({tr("Number"), tr("At least"), tr("At most"), tr("Unit")});
  bounds_->verticalHeader()->hide();
  bounds_->verticalHeader()->setDefaultSectionSize(24);
  bounds_->horizontalHeader()->setSectionResizeMode(name_column, QHeaderView::Stretch);
  for (const int column : {least_column, most_column, unit_column}) bounds_->setColumnWidth(column, 88);
  bounds_->setTabKeyNavigation(false);
  for (int n = 0; n < bounds_->rowCount(); ++n) {
    const BoundedNumber& number = bounded()[size_t(n)];
    for (const auto& [column, words] : {std::pair{int(name_column), number.name}, {int(unit_column), number.unit}}) {
      auto* item = new QTableWidgetItem(tr(words));
      item->setFlags(Qt::ItemIsEnabled);
      bounds_->setItem(n, column, item);
    }
    for (const int column : {least_column, most_column}) {
      auto* item = new QTableWidgetItem;
      item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
      bounds_->setItem(n, column, item);
    }
  }
}

QWidget* RulesForm::make_buttons() {
  auto* buttons = form_buttons(this, tr("Use them")).box;
  connect(buttons->addButton(tr("Open a file of rules…"), QDialogButtonBox::ActionRole), &QPushButton::clicked, this,
          &RulesForm::open);
  connect(buttons->addButton(tr("Save as a file…"), QDialogButtonBox::ActionRole), &QPushButton::clicked, this,
          &RulesForm::save);
  return buttons;
}

void RulesForm::show_rules(const Rules& rules) {
  name_->setText(QString::fromStdString(rules.name));
  rates_->setText(listed(rules.sample_rates_hz)), bits_->setText(listed(rules.container_bits));
  channels_->setText(listed(rules.channels)), codecs_->setText(listed(rules.codecs));
  tags_->setText(listed(rules.tags)), file_name_->setText(QString::fromStdString(rules.file_name));
  lossy_->setChecked(rules.no_lossy_origin), upsampled_->setChecked(rules.no_upsampling);
  for (const BoundedNumber& number : bounded()) {
    const auto it = rules.bounds.find(number.key);
    const auto words = [&](std::optional<double> Bounds::*end) {
      return it == rules.bounds.end() || !(it->second.*end) ? QString() : shortest(*(it->second.*end));
    };
    set_bounds(number.key, words(&Bounds::min), words(&Bounds::max));
  }
  fault_->clear();
}

void RulesForm::set_bounds(const std::string& key, const QString& least, const QString& most) {
  for (int n = 0; n < bounds_->rowCount(); ++n)
    if (key == bounded()[size_t(n)].key)
      bounds_->item(n, least_column)->setText(least), bounds_->item(n, most_column)->setText(most);
}

Rules RulesForm::rules() const {
  Json json = Json::object();
  const auto put = [&](const char* key, const Json& value) {
    if (!value.empty()) json[key] = value;
  };
  put("name", name_->text().trimmed().isEmpty() ? Json() : Json(name_->text().trimmed().toStdString()));
  put("sample_rate_hz", list_in(rates_->text())), put("container_bits", list_in(bits_->text()));
  put("channels", list_in(channels_->text()));
  for (const auto& [key, edit] : {std::pair{"codec", codecs_}, {"tags", tags_}}) {
    Json words = Json::array();
    for (const QString& word : words_in(edit->text())) words.push_back(word.toStdString());
    put(key, words);
  }
  if (!file_name_->text().isEmpty()) json["file_name"] = file_name_->text().toStdString();
  for (int n = 0; n < bounds_->rowCount(); ++n)
    for (const auto& [side, column] : {std::pair{"min", int(least_column)}, {"max", int(most_column)}})
      if (const Json value = number_in(bounds_->item(n, column)); !value.is_null())
        json[bounded()[size_t(n)].key][side] = value;
  if (lossy_->isChecked()) json["lossy_origin"] = false;
  if (upsampled_->isChecked()) json["upsampled"] = false;
  if (json.empty() || (json.size() == 1 && json.contains("name")))
    throw RulesError("nothing is asked for yet; give one number a limit, or a rate, say");
  return rules_from_json(json);
}

QString RulesForm::words_of_fault() const {
  try {
    rules();
    return {};
  } catch (const RulesError& error) {
    return QString::fromUtf8(error.what());
  }
}

void RulesForm::accept() {
  fault_->setText(words_of_fault());
  if (fault_->text().isEmpty()) QDialog::accept();
}

void RulesForm::open() {
  const QString file = QFileDialog::getOpenFileName(this, tr("A file of rules"), {}, "JSON (*.json);;All files (*)");
  if (file.isEmpty()) return;
  try {
    show_rules(load_rules(file.toStdString()));
  } catch (const InputError& error) {
    fault_->setText(QString::fromUtf8(error.what()));
  }
}

void RulesForm::save() {
  fault_->setText(words_of_fault());
  if (!fault_->text().isEmpty()) return;
  save_as(this, {tr("Save the rules"), "rules.json", "JSON (*.json)", "json"},
          [this](const Destination& to) { write_whole(to, rules_json(rules()).dump(2) + "\n"); });
}

}  // namespace heathmist::app
