#include "app/widgets/figure_table.h"

#include "app/theme/theme.h"
#include "core/advice/finding.h"
#include "core/units/number_text.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>

namespace gristle::app {

QTableWidgetItem* wordCell(const QString& text)
{
    auto* item = new QTableWidgetItem(text);
    item->setFlags(Qt::ItemIsSelectable | Qt::ItemIsEnabled);
    return item;
}

QTableWidgetItem* figureCell(const QString& text, bool editable)
{
    auto* item = wordCell(text);
    if (editable) item->setFlags(item->flags() | Qt::ItemIsEditable);
    item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    item->setFont(Theme::instance().mono(TextSize::Normal, editable));
    return item;
}

void layOutTable(QTableWidget& table, const QStringList& headers, const std::set<int>& figures)
{
    table.setColumnCount(int(headers.size()));
    table.setHorizontalHeaderLabels(headers);
    for (int c = 0; c < table.columnCount(); ++c)
        table.horizontalHeaderItem(c)->setTextAlignment((figures.contains(c) ? Qt::AlignRight : Qt::AlignLeft) |
                                                        Qt::AlignVCenter);
    table.verticalHeader()->hide();
    table.setShowGrid(false);
    table.horizontalHeader()->setHighlightSections(false);
    table.setSelectionBehavior(QAbstractItemView::SelectRows);
    table.setSelectionMode(QAbstractItemView::SingleSelection);
    table.verticalHeader()->setDefaultSectionSize(28);
    table.setTabKeyNavigation(false);
}

QString shownFigure(double value, int digits) { return QString::fromStdString(core::figureText(value, digits)); }

std::optional<double> typedFigure(QString text)
{
    text.replace(QChar(0x2212), '-').replace(',', '.');
    return core::parseNumber(text.trimmed().toStdString());
}

FigureBox::FigureBox(const QString& label, const QString& unit, const char* name, double low, double high, int digits,
                     QWidget* parent)
    : QWidget(parent), edit_(new QLineEdit(this)), low_(low), high_(high), digits_(digits)
{
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 12, 0);
    row->setSpacing(4);
    auto* before = new QLabel(label, this);
    before->setProperty("tone", "2");
    row->addWidget(before);
    edit_->setObjectName(name);
    edit_->setAccessibleName(unit.isEmpty() ? label : tr("%1, %2").arg(label, unit));
    edit_->setToolTip(tr("%1 to %2 %3").arg(shownFigure(low, 0), shownFigure(high, 0), unit).trimmed());
    edit_->setFont(Theme::instance().mono(TextSize::Normal, true));
    edit_->setAlignment(Qt::AlignRight);
    edit_->setFixedWidth(46);
    row->addWidget(edit_);
    if (!unit.isEmpty()) {
        auto* after = new QLabel(unit, this);
        after->setProperty("tone", "2");
        row->addWidget(after);
    }
    connect(edit_, &QLineEdit::editingFinished, this, &FigureBox::take);
}

void FigureBox::setValue(double value)
{
    value_ = value;
    edit_->setText(textOf(value));
}

void FigureBox::setOffAtZero()
{
    isOffAtZero_ = true;
    setValue(value_);
}

QString FigureBox::textOf(double value) const
{
    return isOffAtZero_ && value == 0.0 ? tr("off") : shownFigure(value, digits_);
}

void FigureBox::take()
{
    if (edit_->text() == textOf(value_)) return;
    const bool isOff = isOffAtZero_ && edit_->text().trimmed() == tr("off");
    const auto typed = isOff ? 0.0 : typedFigure(edit_->text());
    if (!typed || *typed < low_ || *typed > high_) return setValue(value_);
    setValue(*typed);
    emit changed(value_);
}

} // namespace gristle::app
