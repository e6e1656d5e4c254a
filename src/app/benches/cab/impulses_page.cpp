#include "app/benches/cab/impulses_page.h"

#include "app/benches/cab/compare_plot.h"
#include "app/benches/cab/impulse_list.h"
#include "app/benches/cab/impulse_use.h"
#include "app/widgets/figure_table.h"
#include "core/advice/impulse_findings.h"
#include "core/audio/audio_reader.h"
#include "core/impulse/impulse_difference.h"

#include <QCheckBox>
#include <QDir>
#include <QFileDialog>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableView>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

std::vector<ResponsePoint> pointsOf(const ImpulseCard& card)
{
    std::vector<ResponsePoint> out;
    for (std::size_t i = 0; i < ImpulseCard::kPoints; ++i) out.push_back({ImpulseCard::hzOf(i), double(card.db[i])});
    return out;
}

QString shortName(const std::string& file)
{
    return QString::fromStdString(std::filesystem::path(file).stem().string());
}

} // namespace

ImpulsesPage::ImpulsesPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Impulses"), tr("Which impulse?"), parent), list_(new ImpulseList(library_, this))
{
    askFolder = [this] { return QFileDialog::getExistingDirectory(this, tr("Impulses in a folder")); };
    build();
    connect(&library_, &ImpulseLibrary::changed, this, [this] {
        tell();
        emit stateChanged();
    });
    connect(&library_, &ImpulseLibrary::failed, this, &BenchPage::failed);
    connect(&session(), &SessionModel::rigChanged, this, &ImpulsesPage::tell);
    connect(&session(), &SessionModel::pathChanged, this, &ImpulsesPage::tell);
    connect(&session(), &SessionModel::closing, this, [this] {
        info_.waitForDone();
        library_.close();
        zero_.clear();
        told_.reset();
    });
    connect(&Theme::instance(), &Theme::changed, this, [this] { plot_->update(); });
}

void ImpulsesPage::build()
{
    auto* column = layOut("impulseSentence", sentence_);

    auto* head = addRow(column);
    ofSession_ = addButton(head, tr("This session"), "impulsesOfSession", tr("The impulses of this session"),
                           [this] { openSession(); });
    ofFolder_ =
        addButton(head, tr("A folder \u2026"), "impulsesOfFolder", tr("Look through a folder of impulses"), [this] {
            const QString folder = askFolder();
            if (!folder.isEmpty()) library_.open(folder);
            tell();
        });
    for (auto* b : {ofSession_, ofFolder_}) {
        b->setProperty("slot", true);
        b->setCheckable(true);
    }
    search_ = named(new QLineEdit(this), "impulseSearch", tr("Words of names and tags"));
    search_->setPlaceholderText(tr("search names and tags"));
    search_->setClearButtonEnabled(true);
    connect(search_, &QLineEdit::textChanged, this, [this](const QString& words) {
        list_->setSearch(words);
        tell();
    });
    head->addWidget(search_, 1);
    hideDuplicates_ = named(new QCheckBox(tr("hide doubles"), this), "hideDuplicates",
                            tr("Files with the same samples as another are left out"));
    connect(hideDuplicates_, &QCheckBox::toggled, this, [this](bool on) {
        list_->setDuplicatesHidden(on);
        tell();
    });
    head->addWidget(hideDuplicates_);

    table_ = named(new QTableView(this), "impulseTable", tr("Impulses; a tick compares one besides the chosen one"));
    table_->setModel(list_);
    table_->setItemDelegateForColumn(ImpulseList::kResponse, new ResponseDelegate(library_, *list_, this));
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(34);
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setTabKeyNavigation(false);
    table_->setWordWrap(false);
    table_->setTextElideMode(Qt::ElideMiddle);
    table_->horizontalHeader()->setSectionResizeMode(ImpulseList::kName, QHeaderView::Stretch);
    table_->horizontalHeader()->resizeSection(ImpulseList::kResponse, 190);
    table_->horizontalHeader()->resizeSection(ImpulseList::kLength, 56);
    table_->horizontalHeader()->resizeSection(ImpulseList::kTags, 130);
    connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, [this] {
        measure();
        tell();
        emit auditionChanged();
    });
    connect(list_, &ImpulseList::comparedChanged, this, [this] {
        tell();
        emit auditionChanged();
    });
    column->addWidget(table_, 5);

    auto* under = addRow(column);
    count_ = new QLabel(this);
    count_->setObjectName("impulseCount");
    count_->setProperty("tone", "2");
    under->addWidget(count_, 1);
    asZero_ = addButton(under, tr("Compare with this"), "impulseZero",
                        tr("The chosen one becomes the zero of the others"), [this] {
                            if (const ImpulseCard* card = chosen()) zero_ = card->file;
                            tell();
                            emit auditionChanged();
                        });
    intoBlend_ = addButton(under, tr("Make from it"), "impulseMake", tr("Into the parts of the page Make"), [this] {
        const int row = table_->currentIndex().row();
        if (row >= 0) emit wantedInBlend(QString::fromStdString(library_.pathOf(list_->cardOf(row)).string()));
    });
    intoRig_ = addButton(under, tr("Into the rig"), "impulseIntoRig",
                         tr("Copied into the session where it is not there yet, and put into the rig in hand"),
                         [this] { putChosenIntoRig(); });
    plot_ = new ComparePlot(this);
    column->addWidget(plot_, 4);
    figures_ = new QLabel(this);
    figures_->setObjectName("impulseFigures");
    figures_->setProperty("tone", "2");
    figures_->setWordWrap(true);
    column->addWidget(figures_);
}

void ImpulsesPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    if (!session().isOpen()) return;
    if (library_.folder().isEmpty())
        openSession();
    else
        library_.lookAgain(); // what came since, from other pages too
}

void ImpulsesPage::openSession()
{
    library_.open(QString::fromStdString((session().folder().path() / "impulses").string()));
    tell();
}

const ImpulseCard* ImpulsesPage::chosen() const
{
    const QModelIndex at = table_->currentIndex();
    if (!at.isValid() || at.row() >= list_->rowCount()) return nullptr;
    const ImpulseCard& card = library_.cards()[list_->cardOf(at.row())];
    return card.isImpulse() ? &card : nullptr;
}

/// The one that was chosen as zero; else the one in the rig; else the first.
const ImpulseCard* ImpulsesPage::zero() const
{
    const auto find = [&](const std::string& file) -> const ImpulseCard* {
        const auto at = std::ranges::find(library_.cards(), file, &ImpulseCard::file);
        return at != library_.cards().end() && at->isImpulse() ? &*at : nullptr;
    };
    if (const auto* card = find(zero_)) return card;
    const std::string inRig = session().isOpen() ? impulseOf(session().rigs().inHand()) : std::string();
    if (const auto* card = find(std::filesystem::path(inRig).filename().string())) return card;
    const auto first = std::ranges::find_if(library_.cards(), &ImpulseCard::isImpulse);
    return first == library_.cards().end() ? nullptr : &*first;
}

void ImpulsesPage::measure()
{
    const ImpulseCard* card = chosen();
    if (!card || card->file == measured_) return;
    measured_ = card->file;
    told_.reset();
    const int row = table_->currentIndex().row();
    using Answer = std::shared_ptr<Result<ImpulseInfo>>;
    info_.run<Answer>(
        tr("Looking at the impulse"),
        [path = library_.pathOf(list_->cardOf(row))](const Progress&) {
            const auto read = readRecording(path);
            return std::make_shared<Result<ImpulseInfo>>(read ? impulseInfo(*read) : Result<ImpulseInfo>(read.error()));
        },
        [this](Answer info) {
            if (*info) told_ = **info;
            tell();
            emit stateChanged();
        });
}

void ImpulsesPage::tell()
{
    if (!session().isOpen()) return;
    const QString own = QString::fromStdString((session().folder().path() / "impulses").string());
    ofSession_->setChecked(library_.folder() == own);
    ofFolder_->setChecked(library_.folder() != own);
    ofFolder_->setText(library_.folder() == own || library_.folder().isEmpty() ? tr("A folder \u2026")
                                                                               : QDir(library_.folder()).dirName());
    if (!table_->currentIndex().isValid() && list_->rowCount() > 0) table_->selectRow(0);
    const ImpulseCard *card = chosen(), *nil = zero();
    asZero_->setEnabled(card && card != nil);
    intoBlend_->setEnabled(card);
    intoRig_->setEnabled(card && session().layer());
    const std::size_t all = library_.cards().size();
    QString counted = all == 1 ? tr("1 file") : tr("%1 files").arg(all);
    if (std::size_t(list_->rowCount()) != all) counted = tr("%1 of %2").arg(list_->rowCount()).arg(counted);
    if (library_.duplicates() > 0) counted += tr(", %1 the same as another").arg(library_.duplicates());
    count_->setText(library_.isReading() ? tr("reading \u2026 %1").arg(counted) : counted);
    std::vector<ComparePlot::Curve> curves;
    if (!card) {
        sentence_->setText(all == 0 && !library_.isReading() ? tr("There is no impulse here yet.") : QString());
        plot_->setCurves({}, {});
        figures_->clear();
        return;
    }
    const bool isZero = card == nil;
    const auto against = [&](const ImpulseCard& c) {
        return isZero ? pointsOf(c) : differenceOf(pointsOf(c), pointsOf(*nil));
    };
    curves.push_back({shortName(card->file), against(*card)});
    for (const std::string& file : list_->compared()) {
        const auto at = std::ranges::find(library_.cards(), file, &ImpulseCard::file);
        if (at != library_.cards().end() && &*at != card && &*at != nil)
            curves.push_back({shortName(file), against(*at)});
    }
    sentence_->setText(
        isZero ? tr("\u201c%1\u201d is what the others are compared with.").arg(shortName(card->file))
               : tr("\u201c%1\u201d: %2.")
                     .arg(shortName(card->file), QString::fromStdString(differenceWords(curves.front().points))));
    plot_->setCurves(isZero ? QString() : shortName(nil->file), std::move(curves));
    QString figures = tr("%1 ms \u00b7 nine tenths of its energy within %2 ms \u00b7 %3 Hz \u00b7 %4")
                          .arg(shownFigure(1000.0 * card->seconds, 0), shownFigure(card->energy90Ms, 1))
                          .arg(card->rateHz)
                          .arg(card->channels == 1 ? tr("mono") : tr("%1 channels").arg(card->channels));
    if (told_ && measured_ == card->file)
        figures += tr(" \u00b7 arrives after %1 ms \u00b7 %2")
                       .arg(shownFigure(1000.0 * told_->arrivalSamples / card->rateHz, 2),
                            told_->isMinimumPhase ? tr("minimum phase") : tr("not minimum phase"));
    figures_->setText(figures);
}

void ImpulsesPage::putChosenIntoRig()
{
    if (!chosen()) return;
    const auto path = library_.pathOf(list_->cardOf(table_->currentIndex().row()));
    const auto name = session().rigs().importImpulse(QString::fromStdString(path.string()));
    if (!name) return tellFailure(name.error());
    putIntoRig(session(), *name);
    emit auditionChanged();
}

BenchFindings ImpulsesPage::findings() const
{
    BenchFindings out{{}, tr("Hear the chosen one below against the one in the rig, as loud.")};
    if (const ImpulseCard* card = chosen()) {
        ImpulseTold told{.energy90Ms = card->energy90Ms, .arrivalS = {}, .performedDb = {}};
        if (told_ && measured_ == card->file) told.arrivalS = told_->arrivalSamples / card->rateHz;
        out.found = impulseFindings(told, shortName(card->file).toStdString());
    }
    return out;
}

AuditionRequest ImpulsesPage::audition() const
{
    const ImpulseCard* card = session().isOpen() ? chosen() : nullptr;
    if (!card) return {};
    std::vector<HeardImpulse> heard{
        {shortName(card->file), library_.pathOf(list_->cardOf(table_->currentIndex().row())), {}}};
    constexpr std::size_t kMostHeard = 4;
    for (const std::string& file : list_->compared())
        if (file != card->file && heard.size() < kMostHeard)
            heard.push_back({shortName(file), std::filesystem::path(library_.folder().toStdString()) / file, {}});
    return hearImpulses(session(), heard);
}

} // namespace gristle::app
