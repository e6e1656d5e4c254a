#include "app/benches/log/log_bench.h"

#include "app/theme/theme.h"
#include "core/advice/file_findings.h"

#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableView>
#include <QTextBrowser>
#include <QTextDocument>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

LogBench::LogBench(const BenchContext& context, QWidget* parent)
    : Bench(context, tr("Log"), 0, parent), layOut_(context.session)
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(26, 18, 26, 14);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    auto* question = new QLabel(tr("What was set, and when?"), this);
    question->setFont(Theme::instance().text(TextSize::Heading, true));
    head->addWidget(question);
    head->addStretch(1);
    const auto add = [&](const QString& text, const char* name, auto signal) {
        auto* b = new QPushButton(text, this);
        b->setObjectName(name);
        b->setAccessibleName(text);
        connect(b, &QPushButton::clicked, this, signal);
        head->addWidget(b);
    };
    add(tr("Recall sheet \u2026"), "saveSheet", &LogBench::saveSheet);
    add(tr("Print \u2026"), "printSheet", &LogBench::printSheet);
    add(tr("Log as CSV \u2026"), "saveCsv", &LogBench::saveCsv);
    column->addLayout(head);
    model_ = new LogModel(this);
    table_ = new QTableView(this);
    table_->setObjectName("logTable");
    table_->setAccessibleName(tr("Log, newest first"));
    table_->setModel(model_);
    table_->verticalHeader()->hide();
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setTextElideMode(Qt::ElideNone); // long sentences take a second line
    table_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    QHeaderView& header = *table_->horizontalHeader();
    header.setDefaultAlignment(Qt::AlignLeft);
    header.setSectionResizeMode(LogModel::What, QHeaderView::Stretch);
    table_->setColumnWidth(LogModel::Time, 156);
    table_->setColumnWidth(LogModel::Where, 240);
    table_->verticalHeader()->setDefaultSectionSize(26);
    const auto fitRows = [this](const QModelIndex&, int first, int last) {
        for (int row = first; row <= last; ++row) table_->resizeRowToContents(row);
    };
    connect(model_, &QAbstractItemModel::rowsInserted, this, fitRows);
    connect(&header, &QHeaderView::sectionResized, &fitTimer_, qOverload<>(&QTimer::start));
    fitTimer_.setSingleShot(true);
    connect(&fitTimer_, &QTimer::timeout, table_, &QTableView::resizeRowsToContents);
    column->addWidget(table_, 2);
    note_ = new QLineEdit(this);
    note_->setObjectName("note");
    note_->setAccessibleName(tr("A note for the log"));
    note_->setPlaceholderText(tr("A note about the layer in hand, then Enter (Ctrl+L comes here)"));
    connect(note_, &QLineEdit::returnPressed, this, [this] {
        const QString text = note_->text().trimmed();
        if (text.isEmpty()) return;
        session().note("note", text);
        note_->clear();
    });
    column->addWidget(note_);
    sheetTitle_ = new QLabel(this);
    sheetTitle_->setFont(Theme::instance().text(TextSize::Normal, true));
    column->addWidget(sheetTitle_);
    sheet_ = new QTextBrowser(this);
    sheet_->setObjectName("sheet");
    sheet_->setAccessibleName(tr("Recall sheet"));
    sheet_->setOpenLinks(false);
    column->addWidget(sheet_, 3);
    for (auto signal : {&SessionModel::logged, &SessionModel::documentChanged, &SessionModel::opened,
                        &SessionModel::measured, &SessionModel::pathChanged})
        connect(&session(), signal, this, &LogBench::later);
    connect(&session(), &SessionModel::closed, model_, &LogModel::clear);
    connect(&Theme::instance(), &Theme::changed, this, &LogBench::later);
    timer_.setSingleShot(true);
    connect(&timer_, &QTimer::timeout, this, &LogBench::refresh);
    sheetTimer_.setSingleShot(true);
    connect(&sheetTimer_, &QTimer::timeout, this, [this] {
        if (isVisible() && session().isOpen()) showSheet();
    });
}

std::vector<LayerReading> LogBench::readings(bool partOnly) const
{
    std::vector<LayerReading> out;
    const LayerPath at = session().path();
    for (const LayerPath& path : allLayers(session().document())) {
        if (partOnly && (path.song != at.song || path.part != at.part)) continue;
        const Take* take = findLayer(session().document(), path)->chosenTake();
        if (!take) continue;
        const auto m = session().measurements().of(*take);
        const auto average = session().measurements().averageDbfs(*take);
        if (!m || !average) continue;
        std::optional<double> peak;
        for (const auto& c : m->channels)
            if (c.truePeakDbtp) peak = std::max(peak.value_or(-1e9), *c.truePeakDbtp);
        out.push_back({path, "averages " + figureText(*average) + " dBFS, peak " +
                                 (peak ? figureText(*peak) : "\u2013") + " dBTP"});
    }
    return out;
}

QString LogBench::sheetHtml() const
{
    return QString::fromStdString(recallSheetHtml(session().folder(), readings(false)));
}

void LogBench::later() { timer_.start(0); }

void LogBench::showEvent(QShowEvent* event)
{
    Bench::showEvent(event);
    later();
}

void LogBench::refresh()
{
    if (!session().isOpen()) return;
    model_->readOn(session().folder());
    if (isVisible()) sheetTimer_.start(0); // by itself: the table is painted before the sheet is laid out
    emit stateChanged();
}

/// The part in hand; the whole session stands on the sheet that is saved and printed.
void LogBench::showSheet()
{
    const Part* part = session().part();
    sheetTitle_->setText(part ? tr("To set %1 up again").arg(QString::fromStdString(part->name))
                              : tr("To set it up again"));
    const LayerPath at = session().path();
    QString html = QString::fromStdString(recallPartHtml(session().folder(), at.song, at.part, readings(true)));
    html.replace("<table>", "<table width='100%' cellpadding='3' cellspacing='0'>");
    html.replace("<th>", QStringLiteral("<td style='color:%1'>").arg(ink(Token::Ink2).name()));
    html.replace("<h3>", "<p style='font-size:13px;font-weight:600'>").replace("</h3>", "</p>");
    html.replace("<pre>",
                 QStringLiteral("<p style='font-family:\"%1\";font-size:12px'>").arg(Theme::instance().mono().family()))
        .replace("</pre>", "</p>");
    if (html == shownHtml_) return;
    // Laying it out is the dear part: on a worker, then the sheet is handed over.
    using Sheet = std::unique_ptr<QTextDocument>;
    layOut_.run<Sheet>(
        tr("Laying out the recall sheet"),
        [html, font = sheet_->document()->defaultFont(), width = sheet_->viewport()->width(),
         home = thread()](const Progress&) {
            auto sheet = std::make_unique<QTextDocument>();
            sheet->setDefaultFont(font);
            sheet->setTextWidth(width);
            sheet->setHtml(html);
            (void)sheet->size();
            sheet->moveToThread(home);
            return sheet;
        },
        [this, html](Sheet sheet) {
            QTextDocument* before = sheet_->document();
            const bool isOurs = before->parent() == sheet_; // its first one goes by itself
            sheet->setParent(sheet_);
            sheet_->setDocument(sheet.release());
            if (isOurs) delete before;
            shownHtml_ = html;
        });
}

void LogBench::focusNote() { note_->setFocus(); }

BenchState LogBench::state() const
{
    const auto missing = session().isOpen() ? session().missing().size() : 0;
    if (missing > 0) return {tr("%1 missing").arg(missing), true};
    const auto entries = model_->entries();
    return {entries == 1 ? tr("1 entry") : tr("%1 entries").arg(entries), false};
}

BenchFindings LogBench::findings() const
{
    BenchFindings out{{}, tr("Everything that the session names is there.")};
    if (session().isOpen())
        for (const Missing& m : session().missing()) out.found.push_back(missingFinding(m.file, m.why));
    return out;
}

} // namespace gristle::app
