#include "app/widgets/terms.hpp"

#include <QFile>
#include <QRegularExpression>

#include "app/theme/theme.hpp"

static void init_handbook_resource() { Q_INIT_RESOURCE(handbook); }  // it lies in a static library

namespace heathmist::app {

namespace {

/// [//]: # (key code code): a line that no reader of Markdown shows.
void read_key(const QString& line, Term& term) {
  term.codes = line.section('(', 1).chopped(1).split(' ');
  term.key = term.codes.takeFirst();
}

Term read_term(const QString& section) {
  Term term;
  for (const QString& line : section.split('\n', Qt::SkipEmptyParts)) {
    const auto after = [&](const char* head) { return line.mid(QString("- **%1**: ").arg(head).size()); };
    if (term.name.isEmpty())
      term.name = line;
    else if (line.startsWith("[//]: # ("))
      read_key(line, term);
    else if (line.startsWith('*') && line.endsWith('*'))
      term.unit = line.mid(1).chopped(1);
    else if (line.startsWith("- **Formula**"))
      term.formula = after("Formula");
    else if (line.startsWith("- **Source**"))
      term.source = after("Source");
    else if (line.startsWith("- **Usual**"))
      term.usual = after("Usual");
    else
      term.what += line;
  }
  return term;
}

std::vector<Term> read_terms() {
  open_handbook_files();
  QFile file(":/heathmist/handbook/terms.md");
  if (!file.open(QIODevice::ReadOnly)) return {};
  QStringList sections = QString::fromUtf8(file.readAll()).split("\n## ");
  sections.removeFirst();  // what stands before the first term
  std::vector<Term> all;
  for (const QString& section : sections) all.push_back(read_term(section));
  return all;
}

/// What Markdown leans on, leant in rich text.
QString leant(const QString& text) {
  static const QRegularExpression stars("\\*([^*]+)\\*");
  return text.toHtmlEscaped().replace(stars, "<i>\\1</i>");
}

}  // namespace

void open_handbook_files() { init_handbook_resource(); }

const std::vector<Term>& terms() {
  static const std::vector<Term> all = read_terms();
  return all;
}

const Term* term_of(const QString& key) {
  for (const Term& term : terms())
    if (term.key == key) return &term;
  return nullptr;
}

const Term& term_of_code(const std::string& code) {
  for (const Term& term : terms())
    if (term.codes.contains(QString::fromStdString(code))) return term;
  static const Term none;
  const Term* cause = term_of("cause");
  return cause ? *cause : none;
}

QString card_of(const Term& term) {
  QString rows;
  for (const auto& [head, text] : {std::pair{QObject::tr("Formula"), term.formula},
                                   {QObject::tr("Source"), term.source},
                                   {QObject::tr("Usual"), term.usual}})
    rows += QString("<tr><td style='padding-right:10px'>%1</td><td>%2</td></tr>").arg(head, leant(text));
  return QString("<p><b>%1</b>, %2</p><p>%3</p><table>%4</table>")
      .arg(term.name.toHtmlEscaped(), term.unit.toHtmlEscaped(), leant(term.what), rows);
}

void set_term(QWidget* widget, const QString& key) {
  const Term* term = term_of(key);
  widget->setWhatsThis(term ? card_of(*term) : QString());
}

}  // namespace heathmist::app
