#include "app/benches/cab/align_page.h"

#include "app/models/slots.h"
#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "core/advice/align_findings.h"
#include "core/impulse/sound_field.h"

#include <QFileDialog>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QRegularExpression>
#include <QTableWidget>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kName, kDelay, kDistance, kPolarity, kSure, kNow, kThen, kKept, kLate };

constexpr double kMaxMs = 50.0;

QTableWidgetItem* cell(const QString& text, bool isFigure = false)
{
    auto* item = new QTableWidgetItem(text);
    item->setFlags(Qt::ItemIsSelectable | Qt::ItemIsEnabled);
    if (isFigure) {
        item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        item->setFont(Theme::instance().mono(TextSize::Normal));
    }
    return item;
}

QString figure(double value, int digits) { return QString::fromStdString(figureText(value, digits)); }

/// What a layer is moved by now.
QString keptText(const Layer& layer)
{
    if (layer.earlierMs == 0.0 && !layer.isInverted) return AlignPage::tr("as recorded");
    QStringList parts;
    if (layer.earlierMs != 0.0)
        parts << AlignPage::tr("%1 ms %2")
                     .arg(figure(std::abs(layer.earlierMs), 2),
                          layer.earlierMs > 0.0 ? AlignPage::tr("earlier") : AlignPage::tr("later"));
    if (layer.isInverted) parts << AlignPage::tr("inverted");
    return parts.join(", ");
}

} // namespace

SumPicture::SumPicture(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("sumPicture");
    setAccessibleName(tr("What the sum of both microphones gains or loses, by frequency"));
    setMinimumHeight(150);
    setEmptyText(tr("Two recordings of one performance, brought in as layers of a part, are compared here."));
}

void SumPicture::setPair(const QString& names, std::vector<AlignedBand> bands, bool isKeptLate)
{
    names_ = names;
    bands_ = std::move(bands);
    isKeptLate_ = isKeptLate;
    double worst = 99.0, hz = 0.0;
    for (const AlignedBand& b : bands_)
        if (b.share > 0.01 && -b.lossBeforeDb < worst) worst = -b.lossBeforeDb, hz = b.hz;
    setAccessibleDescription(
        bands_.empty()
            ? QString()
            : tr("%1: as recorded, the sum falls to %2 dB at %3").arg(names_, figure(worst, 1), hzLabel(hz)));
    changeStill();
}

void SumPicture::drawStill(QPainter& p)
{
    if (bands_.empty()) return drawEmpty(p, emptyText_);
    constexpr double kLowDb = -18.0, kHighDb = 6.0, kHeard = 0.0005;
    const PlotArea area(QRectF(44, 24, width() - 64, height() - 50), Axis{50.0, 16000.0, 0, 1, true},
                        Axis{kLowDb, kHighDb});
    area.drawLevels(p, {6, 3, 0, -6, -12, -18}, [](double v) { return v > 0 ? "+" + numberLabel(v) : numberLabel(v); });
    area.drawTicks(p, {50, 100, 200, 500, 1000, 2000, 5000, 10000}, hzLabel);
    p.setFont(Theme::instance().text(TextSize::Small));
    const QRectF all(rect());
    drawLabel(p, {area.rect.left(), 10}, tr("sum of %1, dB against both by themselves; alike: +3").arg(names_),
              Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink2), all);
    p.setClipRect(area.rect.adjusted(0, -2, 0, 2));
    const auto draw = [&](auto lossOf, const QPen& pen) {
        QPolygonF line;
        for (const AlignedBand& b : bands_)
            if (b.share > kHeard && b.hz < 16000.0) line << area.point(b.hz, std::clamp(-lossOf(b), kLowDb, kHighDb));
        p.setPen(pen);
        p.drawPolyline(line);
    };
    const QPen now(ink(Token::Ink), 1.6, Qt::DashLine), then(ink(Token::Act), 2.4);
    draw([](const AlignedBand& b) { return b.lossBeforeDb; }, now);
    if (!isKeptLate_) draw([](const AlignedBand& b) { return b.lossAfterDb; }, then);
    p.setClipping(false);
    double x = area.rect.left() + 10;
    const double y = area.rect.bottom() - 14;
    const auto legend = [&](const QPen& pen, const QString& text) {
        p.setPen(pen);
        p.drawLine(QPointF(x, y), QPointF(x + 28, y));
        drawLabel(p, {x + 34, y}, text, Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink), area.rect);
        x += 52 + p.fontMetrics().horizontalAdvance(text);
    };
    legend(now, tr("as recorded"));
    if (!isKeptLate_) legend(then, tr("brought together"));
}

AlignPage::AlignPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Align"), tr("Do the microphones agree?"), parent)
{
    askFolder = [this] { return QFileDialog::getExistingDirectory(this, tr("Write moved copies into a folder")); };
    build();
    connect(&session(), &SessionModel::documentChanged, this, &AlignPage::refresh);
    connect(&session(), &SessionModel::pathChanged, this, &AlignPage::refresh);
    connect(&session(), &SessionModel::closing, this, [this] {
        task_.waitForDone();
        write_.waitForDone();
        aligned_.reset();
        measured_.clear();
    });
    connect(&Theme::instance(), &Theme::changed, this, &AlignPage::refresh);
}

void AlignPage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(8);
    auto* under = new QHBoxLayout; // of the table
    under->setSpacing(4);
    const auto button = [&](QHBoxLayout* into, const QString& text, const char* name, const QString& about, auto slot) {
        auto* b = new QPushButton(text, this);
        b->setObjectName(name);
        b->setAccessibleName(about);
        b->setToolTip(about);
        connect(b, &QPushButton::clicked, this, slot);
        into->addWidget(b);
        return b;
    };
    reference_ = button(under, tr("Compare with this"), "alignReference",
                        tr("The others are compared with the chosen layer"), [this] {
                            const int row = table_->currentRow();
                            if (row < 0 || row >= int(rows_.size())) return;
                            referenceLayer_ = rows_[std::size_t(row)].layer;
                            refresh();
                        });
    copies_ = button(under, tr("Write copies \u2026"), "alignCopies",
                     tr("Writes each layer, moved, as a file of its own"), [this] { writeCopies(); });
    under->addStretch(1);
    asRecorded_ =
        button(under, tr("As recorded"), "alignUndo", tr("Takes the moves of all layers of this part back"), [this] {
            session().editPart(tr("Microphones as recorded"), "align", [](Part& part) {
                for (Layer& l : part.layers) l.earlierMs = 0.0, l.isInverted = false;
            });
            emit auditionChanged();
        });
    together_ = button(under, tr("Bring together"), "alignTogether",
                       tr("Moves the layers so that they meet, and sets their polarity right; the files stay"),
                       [this] { bringTogether(); });
    sentence_ = new QLabel(this);
    sentence_->setObjectName("alignSentence");
    sentence_->setFont(Theme::instance().text(TextSize::Reading, true));
    sentence_->setWordWrap(true);
    column->addWidget(sentence_);
    table_ = new QTableWidget(0, 9, this);
    table_->setObjectName("alignTable");
    table_->setAccessibleName(tr("Microphones: delay, polarity and what their sum loses"));
    table_->setHorizontalHeaderLabels({tr("layer"), tr("later, ms"), tr("cm"), tr("polarity"), tr("sure"),
                                       tr("sum, dB"), tr("together"), tr("moved by"), tr("keep late")});
    for (int c = 0; c < table_->columnCount(); ++c) {
        const bool isFigure = c == kDelay || c == kDistance || c == kSure || c == kNow || c == kThen;
        table_->horizontalHeaderItem(c)->setTextAlignment((isFigure ? Qt::AlignRight : Qt::AlignLeft) |
                                                          Qt::AlignVCenter);
    }
    table_->horizontalHeaderItem(kSure)->setToolTip(tr("0 to 1; strangers stay below 0.5"));
    table_->horizontalHeaderItem(kNow)->setToolTip(
        tr("Both summed as recorded, against both by themselves: alike +3, unrelated 0"));
    table_->horizontalHeaderItem(kLate)->setToolTip(
        tr("The distance is meant, as of a room microphone: polarity only"));
    table_->verticalHeader()->hide();
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    shareByContent(table_);
    table_->verticalHeader()->setDefaultSectionSize(28);
    table_->setTabKeyNavigation(false);
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        const int row = table_->currentRow();
        if (refreshing_ || row < 0 || row >= int(rows_.size())) return;
        LayerPath path = session().path();
        path.layer = rows_[std::size_t(row)].layer;
        session().setPath(path); // as a click on a layer does elsewhere
    });
    connect(table_, &QTableWidget::itemChanged, this, [this](QTableWidgetItem* item) {
        if (refreshing_) return;
        if (item->column() == kLate) return keepLate(item->row(), item->checkState() == Qt::Checked);
        if (item->column() == kKept) moveByHand(item->row(), item->text()); // fills the table anew: the item is gone
    });
    column->addWidget(table_);
    column->addLayout(under);
    picture_ = new SumPicture(this);
    column->addWidget(picture_, 1);
}

void AlignPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    refresh();
}

void AlignPage::refresh()
{
    if (!session().isOpen()) return;
    LayerPath at = session().path();
    at.layer = 0;
    if (at != part_) { // what was found is of another part
        part_ = at;
        referenceLayer_ = 0;
        late_.clear();
        task_.cancel();
        aligned_.reset();
        measured_.clear();
        rows_.clear();
        emit stateChanged();
    }
    if (!isVisible()) return; // compared when it is looked at
    rows_.clear();
    std::vector<AlignInput> inputs;
    if (const Part* part = session().part()) {
        std::vector<std::size_t> layers;
        for (std::size_t i = 0; i < part->layers.size(); ++i)
            if (part->layers[i].chosenTake()) layers.push_back(i);
        if (!layers.empty() && std::ranges::find(layers, referenceLayer_) == layers.end())
            referenceLayer_ = layers.front();
        std::size_t other = 0;
        for (const std::size_t i : layers) {
            rows_.push_back({i, i == referenceLayer_ ? std::size_t(-1) : other++});
            const Take& take = *part->layers[i].chosenTake();
            const AlignInput input{session().folder().path() / take.file, take.channel, late_.contains(i)};
            inputs.insert(i == referenceLayer_ ? inputs.begin() : inputs.end(), input);
        }
    }
    if (inputs.size() < 2) {
        task_.cancel();
        aligned_.reset();
        measured_.clear();
        trouble_.clear();
    } else if (inputs != measured_) {
        measured_ = inputs;
        measure();
    }
    fillTable();
    tell();
    emit stateChanged();
}

void AlignPage::measure()
{
    aligned_.reset();
    trouble_.clear();
    task_.run<std::shared_ptr<Result<AlignedFiles>>>(
        tr("Comparing microphones"),
        [inputs = measured_](const Progress& p) {
            return std::make_shared<Result<AlignedFiles>>(
                alignFiles(inputs.front(), {inputs.begin() + 1, inputs.end()}, kMaxMs, p));
        },
        [this](std::shared_ptr<Result<AlignedFiles>> result) {
            if (*result)
                aligned_ = std::move(**result);
            else if (result->error().code != ErrorCode::Cancelled)
                trouble_ = QString::fromStdString(result->error().line());
            fillTable();
            tell();
            emit stateChanged();
            emit auditionChanged();
        });
}

const AlignedFile* AlignPage::fileOf(const Row& row) const
{
    return aligned_ && row.other < aligned_->others.size() ? &aligned_->others[row.other] : nullptr;
}

void AlignPage::fillTable()
{
    refreshing_ = true;
    int current = std::max(0, table_->currentRow());
    table_->setRowCount(int(rows_.size()));
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        const Layer& layer = layerOf(rows_[i]);
        const AlignedFile* file = fileOf(rows_[i]);
        const int row = int(i);
        const bool isReference = rows_[i].layer == referenceLayer_;
        if (rows_[i].layer == session().path().layer) current = row;
        table_->setItem(row, kName, cell(QString::fromStdString(layer.name)));
        auto* kept = cell(keptText(layer));
        kept->setFlags(kept->flags() | Qt::ItemIsEditable);
        table_->setItem(row, kKept, kept);
        const QString none = isReference ? QString() : QString(QChar(0x2013));
        const bool isTold = file && file->isOneTake();
        const auto put = [&](Column column, const QString& text) { table_->setItem(row, column, cell(text, true)); };
        const auto* a = file ? &file->alignment : nullptr;
        put(kDelay, isTold ? figure(1000.0 * a->delaySamples / aligned_->rateHz, 2) : none);
        put(kDistance, isTold ? figure(100.0 * metresOf(a->delaySamples, aligned_->rateHz), 1) : none);
        put(kSure, a ? figure(a->confidence, 2) : none);
        put(kNow, a ? QString::fromStdString(signedText(-a->lossBeforeDb)) : none);
        put(kThen, isTold ? QString::fromStdString(signedText(-a->lossAfterDb)) : none);
        table_->setItem(row, kPolarity,
                        cell(isReference     ? tr("reference")
                             : !a            ? none
                             : !isTold       ? tr("another take")
                             : a->isInverted ? tr("inverted")
                                             : tr("normal")));
        auto* late = cell(QString());
        if (!isReference) {
            late->setFlags(late->flags() | Qt::ItemIsUserCheckable);
            late->setCheckState(late_.contains(rows_[i].layer) ? Qt::Checked : Qt::Unchecked);
        }
        table_->setItem(row, kLate, late);
    }
    table_->setFixedHeight(34 + 28 * std::clamp(int(rows_.size()), 1, 6) + 2);
    if (!rows_.empty()) table_->selectRow(std::min(current, int(rows_.size()) - 1));
    refreshing_ = false;
}

/// The sentence, the picture and the buttons, for the chosen row or the one that needs it most.
void AlignPage::tell()
{
    const Row* shown = nullptr;
    const int current = table_->currentRow();
    if (current >= 0 && current < int(rows_.size()) && fileOf(rows_[std::size_t(current)]))
        shown = &rows_[std::size_t(current)];
    for (const Row& row : rows_)
        if (!shown && fileOf(row)) shown = &row;
    if (const AlignedFile* file = shown ? fileOf(*shown) : nullptr) {
        const QString name = QString::fromStdString(layerOf(*shown).name),
                      first = QString::fromStdString(session().part()->layers[referenceLayer_].name);
        const Alignment& a = file->alignment;
        const double gainDb = a.lossBeforeDb - a.lossAfterDb;
        picture_->setPair(tr("%1 and %2").arg(first, name), a.bands, file->isKeptLate || !file->isOneTake());
        const QString where = QString::fromStdString(delayText(a.delaySamples, aligned_->rateHz));
        sentence_->setText(
            !file->isOneTake()
                ? tr("%1 and %2 are not one performance: there is no delay between them to mend.").arg(first, name)
            : file->isKeptLate
                ? (a.isInverted ? tr("%1 stays %2 on purpose, and is inverted.") : tr("%1 stays %2 on purpose."))
                      .arg(name, where)
            : gainDb < 0.1 && !a.isInverted ? tr("%1 agrees with %2: %3.").arg(name, first, where)
            : a.isInverted
                ? tr("%1 is inverted and %2: together the sum gains %3 dB.").arg(name, where, figure(gainDb, 1))
                : tr("%1 is %2: together the sum gains %3 dB.").arg(name, where, figure(gainDb, 1)));
    } else {
        picture_->setPair({}, {}, false);
        sentence_->setText(!trouble_.isEmpty() ? trouble_
                           : task_.isBusy()    ? tr("Comparing \u2026")
                           : rows_.size() < 2  ? tr("One layer alone agrees with itself.")
                                               : QString());
    }
    const bool isAny =
        aligned_ && std::ranges::any_of(aligned_->others, [](const AlignedFile& f) { return f.isOneTake(); });
    together_->setEnabled(isAny);
    copies_->setEnabled(isAny && !write_.isBusy());
    const Part* part = session().isOpen() ? session().part() : nullptr;
    asRecorded_->setEnabled(
        part && std::ranges::any_of(part->layers, [](const Layer& l) { return l.earlierMs != 0.0 || l.isInverted; }));
    reference_->setEnabled(current >= 0 && current < int(rows_.size()) &&
                           rows_[std::size_t(current)].layer != referenceLayer_);
}

std::vector<std::pair<double, bool>> AlignPage::moves() const
{
    std::vector<std::pair<double, bool>> out;
    for (const Row& row : rows_) {
        const AlignedFile* file = fileOf(row);
        if (!file || !file->isOneTake()) {
            out.push_back({0.0, false});
            continue;
        }
        const double ms = 1000.0 * file->alignment.delaySamples / aligned_->rateHz;
        out.push_back({file->isKeptLate ? 0.0 : ms, file->alignment.isInverted});
    }
    return out;
}

void AlignPage::bringTogether()
{
    if (!aligned_) return;
    const auto all = moves();
    session().editPart(tr("Microphones brought together"), "align", [&](Part& part) {
        for (std::size_t i = 0; i < rows_.size() && rows_[i].layer < part.layers.size(); ++i) {
            part.layers[rows_[i].layer].earlierMs = std::round(all[i].first * 1e6) / 1e6;
            part.layers[rows_[i].layer].isInverted = all[i].second;
        }
    });
    emit auditionChanged();
}

void AlignPage::keepLate(int row, bool late)
{
    if (late)
        late_.insert(rows_[std::size_t(row)].layer);
    else
        late_.erase(rows_[std::size_t(row)].layer);
    refresh();
}

/// "0.61", "0.61 ms", "21 cm": earlier by so much; with a minus or "later" the other way.
void AlignPage::moveByHand(int row, const QString& text)
{
    static const QRegularExpression figureIn(QStringLiteral("[-\u2212+]?[0-9]*[.,]?[0-9]+"));
    const auto typed = typedFigure(figureIn.match(text).captured());
    const bool isBack = text.contains(tr("later")), isCm = text.contains(QStringLiteral("cm"));
    const double ms = typed.value_or(0.0) * (isCm ? 10.0 / kSpeedOfSound : 1.0) * (isBack ? -1.0 : 1.0);
    if ((!typed && text.trimmed() != tr("as recorded")) || std::abs(ms) > 1000.0) {
        emit failed(tr("'%1' is no move").arg(text), tr("write 0.61 ms or 21 cm, with a minus to go later"));
        return fillTable();
    }
    const std::size_t at = rows_[std::size_t(row)].layer;
    session().editPart(tr("Microphone moved by hand"), "align", [&](Part& part) {
        if (at < part.layers.size()) part.layers[at].earlierMs = std::round(ms * 1e6) / 1e6;
    });
    emit auditionChanged();
}

void AlignPage::writeCopies()
{
    if (!aligned_) return;
    const QString folder = askFolder();
    if (folder.isEmpty()) return;
    using Written = std::shared_ptr<Result<AlignedFiles>>;
    write_.run<Written>(
        tr("Writing moved copies"),
        [files = *aligned_, folder = std::filesystem::path(folder.toStdString())](const Progress& p) mutable {
            const auto written = writeAligned(files, folder, p);
            return std::make_shared<Result<AlignedFiles>>(written ? Result<AlignedFiles>(files) : written.error());
        },
        [this, folder](Written result) {
            if (*result)
                session().note("align", tr("Moved copies written to %1").arg(folder));
            else
                emit failed(QString::fromStdString(result->error().message),
                            QString::fromStdString(result->error().remedy));
            tell();
            emit stateChanged();
        });
    tell();
}

BenchState AlignPage::state() const
{
    if (task_.isBusy()) return {tr("comparing \u2026"), false};
    const Part* part = session().isOpen() ? session().part() : nullptr;
    const auto isPlayed = [](const Layer& l) { return l.chosenTake() != nullptr; };
    if (!part || std::ranges::count_if(part->layers, isPlayed) < 2) return {QString(QChar(0x2013)), false};
    if (!aligned_)
        return trouble_.isEmpty() ? BenchState{tr("to be measured"), false} : BenchState{tr("cannot be told"), true};
    if (std::ranges::none_of(aligned_->others, [](const AlignedFile& f) { return f.isOneTake(); }))
        return {tr("separate takes"), false};
    const QString line = severityLine(alignFindings(*aligned_, kMaxMs));
    const bool isMoved =
        std::ranges::any_of(part->layers, [](const Layer& l) { return l.earlierMs != 0.0 || l.isInverted; });
    if (isMoved) return {tr("brought together"), false};
    return line.isEmpty() ? BenchState{tr("they agree"), false} : BenchState{line, true};
}

BenchFindings AlignPage::findings() const
{
    if (!aligned_) return {{}, tr("Layers of one performance, each from another microphone, are compared here.")};
    AlignedFiles named = *aligned_; // by their layers' names
    const auto nameOf = [&](std::size_t layer) { return session().part()->layers[layer].name; };
    named.reference = nameOf(referenceLayer_);
    for (const Row& row : rows_)
        if (row.other < named.others.size()) named.others[row.other].file = nameOf(row.layer);
    return {alignFindings(named, kMaxMs), tr("All microphones agree.")};
}

Remedies AlignPage::remedies()
{
    const RemedyAction together{tr("Bring together"), [this] { bringTogether(); }};
    return {{"align.inverted", together}, {"align.late", together}};
}

std::vector<MixLayer> AlignPage::layers(bool isTogether) const
{
    std::vector<MixLayer> out;
    std::vector<std::string> warnings;
    const auto all = moves();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        auto recipe = layerRecipe(session().folder(), layerOf(rows_[i]), true, warnings);
        if (!recipe) return {};
        recipe->effort = Effort::Playing;
        recipe->earlierS += 0.001 * ((isTogether ? all[i].first : 0.0) - layerOf(rows_[i]).earlierMs);
        recipe->isInverted = isTogether && all[i].second;
        out.push_back({std::move(*recipe), 0.0, layerOf(rows_[i]).gainDb});
    }
    return out;
}

AuditionRequest AlignPage::audition() const
{
    AuditionRequest out;
    out.kind = "align";
    if (!session().isOpen() || !aligned_) return out;
    out.subject = tr("%1, in the middle").arg(QString::fromStdString(session().part()->name));
    const MixOptions options = mixOptions(session().document());
    for (const bool isTogether : {false, true}) {
        const auto own = layers(isTogether);
        if (own.empty()) return {};
        out.slots_.push_back(mixSlot(isTogether ? tr("Brought together") : tr("As recorded"), own, options));
    }
    return out;
}

} // namespace gristle::app
