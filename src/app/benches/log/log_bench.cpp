#include "app/benches/log/log_bench.h"

#include "app/theme/theme.h"

#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableWidget>
#include <QTextBrowser>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

LogBench::LogBench(const BenchContext& context, QWidget* parent) : Bench(context, tr("Log"), 0, parent)
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
    table_ = new QTableWidget(0, 3, this);
    table_->setObjectName("logTable");
    table_->setAccessibleName(tr("Log, newest first"));
    table_->setHorizontalHeaderLabels({tr("time"), tr("where"), tr("what")});
    table_->verticalHeader()->hide();
    table_->setShowGrid(false);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft);
    table_->horizontalHeader()->setStretchLastSection(true);
    table_->setColumnWidth(0, 134);
    table_->setColumnWidth(1, 216);
    table_->verticalHeader()->setDefaultSectionSize(26);
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
    auto* sheetTitle = new QLabel(tr("To set it up again"), this);
    sheetTitle->setFont(Theme::instance().text(TextSize::Normal, true));
    column->addWidget(sheetTitle);
    sheet_ = new QTextBrowser(this);
    sheet_->setObjectName("sheet");
    sheet_->setAccessibleName(tr("Recall sheet"));
    sheet_->setOpenLinks(false);
    column->addWidget(sheet_, 3);
    for (auto signal :
         {&SessionModel::logged, &SessionModel::documentChanged, &SessionModel::opened, &SessionModel::measured})
        connect(&session(), signal, this, &LogBench::later);
    connect(&Theme::instance(), &Theme::changed, this, &LogBench::later);
    timer_.setSingleShot(true);
    connect(&timer_, &QTimer::timeout, this, &LogBench::refresh);
}

QString LogBench::sheetHtml() const
{
    std::vector<LayerReading> readings;
    for (const LayerPath& path : allLayers(session().document())) {
        const Take* take = findLayer(session().document(), path)->chosenTake();
        if (!take) continue;
        const auto m = session().measurement(*take);
        const auto average = session().averageDbfs(*take);
        if (!m || !average) continue;
        std::optional<double> peak;
        for (const auto& c : m->channels)
            if (c.truePeakDbtp) peak = std::max(peak.value_or(-1e9), *c.truePeakDbtp);
        readings.push_back({path, "averages " + figureText(*average) + " dBFS, peak " +
                                      (peak ? figureText(*peak) : "\u2013") + " dBTP"});
    }
    return QString::fromStdString(recallSheetHtml(session().folder(), readings));
}

void LogBench::later() { timer_.start(0); }

void LogBench::showEvent(QShowEvent* event)
{
    Bench::showEvent(event);
    later();
}

void LogBench::fillTable(const std::vector<LogEntry>& entries)
{
    table_->setRowCount(int(entries.size()));
    for (std::size_t i = 0; i < entries.size(); ++i) {
        const LogEntry& e = entries[entries.size() - 1 - i];
        QString where = QString::fromStdString(e.song);
        if (!e.part.empty()) where += QStringLiteral(" \u203a ") + QString::fromStdString(e.part);
        if (!e.layer.empty()) where += QStringLiteral(" \u203a ") + QString::fromStdString(e.layer);
        QString time = QString::fromStdString(e.time);
        time.replace('T', ' ').truncate(16); // to the minute; the file has the seconds
        auto* timeItem = new QTableWidgetItem(time);
        timeItem->setFont(Theme::instance().mono(TextSize::Small));
        table_->setItem(int(i), 0, timeItem);
        auto* whereItem = new QTableWidgetItem(where);
        whereItem->setForeground(ink(Token::Ink2));
        whereItem->setToolTip(where);
        table_->setItem(int(i), 1, whereItem);
        auto* what = new QTableWidgetItem(QString::fromStdString(e.text));
        what->setToolTip(what->text());
        table_->setItem(int(i), 2, what);
    }
}

void LogBench::refresh()
{
    if (!session().isOpen()) return;
    const auto entries = session().folder().readLog();
    entries_ = entries.size();
    if (!isVisible()) return void(emit stateChanged());
    fillTable(entries);
    // The sheet carries its own paper colours for print; here it takes the theme's.
    QString html = sheetHtml();
    html.remove(QRegularExpression("<style>.*</style>", QRegularExpression::DotMatchesEverythingOption));
    html.replace("<table>", "<table width='100%' cellpadding='3' cellspacing='0'>");
    html.replace("<th>", QStringLiteral("<th align='left' style='color:%1'>").arg(ink(Token::Ink2).name()));
    html.replace("<h1>", "<p style='font-size:17px;font-weight:600'>").replace("</h1>", "</p>");
    html.replace("<h2>", "<p style='font-size:15px;font-weight:600;margin-top:14px'>").replace("</h2>", "</p>");
    html.replace("<h3>", "<p style='font-size:13px;font-weight:600'>").replace("</h3>", "</p>");
    html.replace("<pre>",
                 QStringLiteral("<p style='font-family:\"%1\";font-size:12px'>").arg(Theme::instance().mono().family()))
        .replace("</pre>", "</p>");
    html.truncate(
        html.indexOf(QStringLiteral("margin-top:14px'>Log</p>")) > 0
            ? html.lastIndexOf("<p style='font-size:15px", html.indexOf(QStringLiteral("margin-top:14px'>Log</p>")))
            : html.size());
    if (html != shownHtml_) sheet_->setHtml(html); // laying it out is the dear part
    shownHtml_ = html;
    emit stateChanged();
}

void LogBench::focusNote() { note_->setFocus(); }

BenchState LogBench::state() const
{
    const auto missing = session().isOpen() ? session().missing().size() : 0;
    if (missing > 0) return {tr("%1 missing").arg(missing), true};
    return {tr("%1 entries").arg(entries_), false};
}

void LogBench::findings(FindingsPanel& panel) const
{
    std::vector<Finding> found;
    if (session().isOpen())
        for (const Missing& m : session().missing()) {
            Finding f;
            f.severity = Severity::Stop;
            f.code = "session.missing";
            f.title = m.why;
            f.message = m.file + ". The rest of the session is open and usable.";
            f.remedy = "Put the file back into the session's folder, then open it again";
            if (!f.title.empty()) f.title[0] = char(std::toupper(static_cast<unsigned char>(f.title[0])));
            found.push_back(std::move(f));
        }
    panel.show(found, {}, tr("Everything that the session names is there."));
}

} // namespace gristle::app
