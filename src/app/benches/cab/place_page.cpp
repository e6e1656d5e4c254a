#include "app/benches/cab/place_page.h"

#include "app/benches/cab/impulse_use.h"
#include "app/benches/cab/place_map.h"
#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "core/impulse/impulse_difference.h"

#include <QCheckBox>
#include <QComboBox>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>
#include <fmt/format.h>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kKind, kDistance, kOffset, kAngle, kGain, kDelay, kOver, kTravel, kPressure, kSpill, kColumns };
constexpr std::size_t kMostMicrophones = 6;
constexpr int kMergeMoves = 7001;

struct Span {
    double from, to;
};

/// Where a map goes from and to, so that the place lies in it.
Span spanOf(MapLine line, const PlacedMicrophone& m)
{
    switch (line) {
    case MapLine::Offset: return {0.0, std::max(0.15, std::min(2.0, 1.3 * std::abs(m.place.offsetM)))};
    case MapLine::Distance:
        return m.place.distanceM > 0.0 ? Span{0.01, std::max(1.0, std::min(4.0, 1.3 * m.place.distanceM))}
                                       : Span{-std::max(1.0, 1.3 * -m.place.distanceM), -0.02};
    case MapLine::Angle: return {-60.0, 60.0};
    }
    return {0.0, 1.0};
}

double& valueOn(MapLine line, MicrophonePlace& place)
{
    return line == MapLine::Offset ? place.offsetM : line == MapLine::Distance ? place.distanceM : place.angleDeg;
}

QString lineName(MapLine line)
{
    return line == MapLine::Offset     ? PlacePage::tr("cm aside of the cone's centre")
           : line == MapLine::Distance ? PlacePage::tr("cm from the cloth")
                                       : PlacePage::tr("angle towards the centre");
}

QString titleOf(const PlacedMicrophone& m) { return QString::fromStdString(nameOf(m)); }

PlanChannels channelsOf(bool isApart) { return isApart ? PlanChannels::FirstLeft : PlanChannels::Sum; }

QString madeOf(const CabPlan& plan, bool isApart)
{
    QStringList parts;
    for (const PlacedMicrophone& m : plan.microphones)
        parts << QString::fromStdString(fmt::format("{} {:g} cm, aside {:g} cm, {:g} degrees, {:g} dB{}", m.kind,
                                                    100.0 * m.place.distanceM, 100.0 * m.place.offsetM,
                                                    m.place.angleDeg, m.gainDb, m.invert ? ", inverted" : ""));
    return PlacePage::tr("model of %1: %2%3")
        .arg(QString::fromStdString(plan.cabinet), parts.join("; "),
             isApart ? PlacePage::tr("; the first left, the others right") : QString());
}

} // namespace

PlacePage::PlacePage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Place"), tr("Which microphone, where?"), parent)
{
    build();
    connect(&session(), &SessionModel::documentChanged, this, &PlacePage::refresh);
    connect(&session(), &SessionModel::closing, this, [this] {
        map_.waitForDone();
        make_.waitForDone();
        figuring_.waitForDone();
        hearing_.waitForDone();
        shown_.reset();
        heard_.reset(), heardOf_.reset();
    });
    connect(&Theme::instance(), &Theme::changed, this, &PlacePage::refresh);
}

void PlacePage::build()
{
    auto* column = layOut("placeSentence", sentence_);

    auto* head = addRow(column);
    cabinet_ = named(new QComboBox(this), "placeCabinet", tr("Cabinet"));
    for (const CabinetKind& kind : cabinetKinds()) {
        cabinet_->addItem(QString::fromStdString(kind.title), QString::fromStdString(kind.key));
        cabinet_->setItemData(cabinet_->count() - 1, QString::fromStdString(kind.about), Qt::ToolTipRole);
    }
    connect(cabinet_, &QComboBox::activated, this, [this](int index) {
        change(tr("Cabinet: %1").arg(cabinet_->itemText(index)),
               [&](CabPlan& p) { p.cabinet = cabinet_->itemData(index).toString().toStdString(); });
    });
    head->addWidget(cabinet_);
    head->addStretch(1);
    const std::pair<QString, QString> lines[] = {{tr("Aside"), tr("The map goes from the cone's centre outwards")},
                                                 {tr("Distance"), tr("The map goes away from the cabinet")},
                                                 {tr("Angle"), tr("The map turns the microphone")}};
    for (int i = 0; i < 3; ++i) {
        auto* b =
            named(new QPushButton(lines[i].first, this), ("placeLine." + std::to_string(i)).c_str(), lines[i].second);
        b->setProperty("slot", true);
        b->setCheckable(true);
        connect(b, &QPushButton::clicked, this, [this, i] {
            line_ = MapLine(i);
            refresh();
        });
        head->addWidget(b);
        lines_.push_back(b);
    }

    picture_ = new PlaceMap(this);
    connect(picture_, &PlaceMap::moved, this, &PlacePage::move);
    column->addWidget(picture_, 1);

    table_ = new QTableWidget(0, kColumns, this);
    table_->setObjectName("placeTable");
    table_->setAccessibleName(tr("Microphones: kind, place, gain and what reaches them"));
    layOutTable(*table_,
                {tr("microphone"), tr("cm away"), tr("cm aside"), tr("angle"), tr("gain"), tr("delay"), tr("inverted"),
                 tr("ms"), tr("dB SPL"), tr("spill")},
                {kDistance, kOffset, kAngle, kGain, kDelay, kTravel, kPressure, kSpill});
    const std::pair<int, QString> tips[] = {{kDistance, tr("From the cloth, cm; with a minus behind the cabinet")},
                                            {kOffset, tr("From the cone's centre to the cabinet's near side, cm")},
                                            {kAngle, tr("Degrees, turned towards the centre")},
                                            {kGain, tr("dB in the sum")},
                                            {kDelay, tr("ms later in the sum")},
                                            {kOver, tr("Inverted in the sum")},
                                            {kTravel, tr("The sound's way from the cone")},
                                            {kPressure, tr("What reaches it, and what it takes: an estimate")},
                                            {kSpill, tr("What it hears of the second amplifier against its own, dB")}};
    for (const auto& [c, tip] : tips) table_->horizontalHeaderItem(c)->setToolTip(tip);
    table_->horizontalHeader()->setMinimumSectionSize(34);
    shareByContent(table_);
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        if (refreshing_ || table_->currentRow() < 0) return;
        chosen_ = std::size_t(table_->currentRow());
        refresh();
    });
    connect(table_, &QTableWidget::cellChanged, this, [this](int row, int col) {
        if (!refreshing_) changeRow(row, col);
    });
    column->addWidget(table_);

    auto* room = addRow(column, 0);
    const auto figure = [&](const QString& label, const QString& unit, const char* name, double low, double high,
                            int digits, auto set) {
        auto* box = new FigureBox(label, unit, name, low, high, digits, this);
        connect(box, &FigureBox::changed, this, [this, label, set](double v) {
            change(tr("Room: %1 %2").arg(label, shownFigure(v, 2)), [&](CabPlan& p) { set(p, v); });
        });
        room->addWidget(box);
        return box;
    };
    floor_ = figure(tr("floor"), tr("cm"), "placeFloor", 0.0, 300.0, 0,
                    [](CabPlan& p, double v) { p.room.floorM = 0.01 * v; });
    wall_ = figure(tr("wall"), tr("cm"), "placeWall", 0.0, 1000.0, 0,
                   [](CabPlan& p, double v) { p.room.wallM = 0.01 * v; });
    reverberation_ = figure(tr("reverb"), tr("s"), "placeReverberation", 0.0, 10.0, 2,
                            [](CabPlan& p, double v) { p.room.reverberationS = v; });
    for (FigureBox* b : {floor_, wall_, reverberation_}) b->setOffAtZero();
    watts_ = figure(tr("at"), tr("W"), "placeWatts", 0.01, 200.0, 1, [](CabPlan& p, double v) { p.watts = v; });
    spill_ = figure(tr("2nd amp"), tr("m"), "placeSpill", 0.0, 20.0, 2, [](CabPlan& p, double v) { p.spillM = v; });
    spill_->setOffAtZero();
    room->addStretch(1);

    auto* row = addRow(column);
    another_ = addButton(row, tr("Add"), "placeAdd", tr("One more, like the chosen one"), [this] {
        change(tr("Microphone added"), [&](CabPlan& p) {
            PlacedMicrophone m = p.microphones[chosen()];
            m.kind = m.kind == "ribbon" ? "coil-level" : "ribbon";
            p.microphones.push_back(m);
            chosen_ = p.microphones.size() - 1;
        });
    });
    remove_ = addButton(row, tr("Remove"), "placeRemove", tr("Take the chosen microphone away"), [this] {
        change(tr("Microphone removed"),
               [&](CabPlan& p) { p.microphones.erase(p.microphones.begin() + long(chosen())); });
    });
    row->addStretch(1);
    apart_ = named(new QCheckBox(tr("left and right"), this), "placeApart",
                   tr("The first microphone left, the others right, to be placed in Blend; else their sum"));
    connect(apart_, &QCheckBox::toggled, this, &PlacePage::prepareHearing);
    row->addWidget(apart_);
    save_ = addButton(row, tr("Keep as impulse"), "placeSave", tr("Makes the impulse and keeps it in the session"),
                      [this] { save(false); });
    intoRig_ = addButton(row, tr("Into the rig"), "placeIntoRig",
                         tr("Makes the impulse and puts it into the rig in hand"), [this] { save(true); });
    auto* honest = new QLabel(tr("A model, an estimate. No phantom power into ribbons; makers' manuals decide."), this);
    honest->setProperty("tone", "2");
    honest->setFont(Theme::instance().text(TextSize::Small));
    honest->setWordWrap(true);
    column->addWidget(honest);
}

/// In a small window what is only read gives way to what is set, and is told where the pointer rests.
void PlacePage::resizeEvent(QResizeEvent* event)
{
    BenchPage::resizeEvent(event);
    constexpr int kAll = 700;
    for (const Column c : {kTravel, kSpill}) table_->setColumnHidden(c, width() < kAll);
}

void PlacePage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    refresh();
}

std::size_t PlacePage::chosen() const { return std::min(chosen_, plan().microphones.size() - 1); }

double PlacePage::position() const
{
    MicrophonePlace place = plan().microphones[chosen()].place;
    return valueOn(line_, place);
}

void PlacePage::change(const QString& text, const std::function<void(CabPlan&)>& edit, int mergeKey)
{
    session().edit(
        text, "cab", [&](SessionDocument& d) { edit(d.cab); }, mergeKey);
    emit auditionChanged();
}

void PlacePage::move(double position)
{
    PlacedMicrophone m = plan().microphones[chosen()];
    double& value = valueOn(line_, m.place);
    const double unit = line_ == MapLine::Angle ? 1.0 : 0.001;
    value = std::round(position / unit) * unit;
    if (!checkPlaced(m)) return;
    change(
        tr("Microphone moved: %1").arg(titleOf(m)), [&](CabPlan& p) { p.microphones[chosen()] = m; },
        kMergeMoves + int(chosen()));
}

void PlacePage::changeRow(int row, int column)
{
    PlacedMicrophone m = plan().microphones[std::size_t(row)];
    if (column == kOver) {
        m.invert = table_->item(row, kOver)->checkState() == Qt::Checked;
    } else {
        const auto typed = typedFigure(table_->item(row, column)->text());
        if (!typed) {
            emit failed(tr("'%1' is no number").arg(table_->item(row, column)->text()), tr("type a figure"));
            return refresh();
        }
        switch (column) {
        case kDistance: m.place.distanceM = 0.01 * *typed; break;
        case kOffset: m.place.offsetM = 0.01 * *typed; break;
        case kAngle: m.place.angleDeg = *typed; break;
        case kGain: m.gainDb = *typed; break;
        case kDelay: m.delayMs = *typed; break;
        default: return;
        }
    }
    if (const auto good = checkPlaced(m); !good) {
        tellFailure(good.error());
        return refresh();
    }
    change(tr("Microphone: %1").arg(titleOf(m)), [&](CabPlan& p) { p.microphones[std::size_t(row)] = m; });
}

void PlacePage::refresh()
{
    if (!session().isOpen() || !isVisible()) return; // computed when it is looked at
    refreshing_ = true;
    cabinet_->setCurrentIndex(cabinet_->findData(QString::fromStdString(plan().cabinet)));
    cabinet_->setToolTip(cabinet_->currentData(Qt::ToolTipRole).toString());
    floor_->setValue(100.0 * plan().room.floorM);
    wall_->setValue(100.0 * plan().room.wallM);
    reverberation_->setValue(plan().room.reverberationS);
    watts_->setValue(plan().watts);
    spill_->setValue(plan().spillM);
    for (std::size_t i = 0; i < lines_.size(); ++i) lines_[i]->setChecked(MapLine(i) == line_);
    another_->setEnabled(plan().microphones.size() < kMostMicrophones);
    remove_->setEnabled(plan().microphones.size() > 1);
    apart_->setEnabled(plan().microphones.size() > 1);
    refreshing_ = false;
    fillTable();
    picture_->setPlace(position());
    compute();
    tell();
    emit stateChanged();
}

void PlacePage::fillTable()
{
    refreshing_ = true;
    const auto& rows = plan().microphones;
    if (table_->rowCount() != int(rows.size())) table_->setRowCount(int(rows.size()));
    const bool isTold = figuresOfPlan() != nullptr;
    const QString none(QChar(0x2013));
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const PlacedMicrophone& m = rows[i];
        const int row = int(i);
        auto* kind = qobject_cast<QComboBox*>(table_->cellWidget(row, kKind));
        if (!kind) {
            kind = named(new QComboBox(table_), ("placeKind." + std::to_string(i)).c_str(), tr("Kind of microphone"));
            for (const Microphone& k : microphoneKinds()) {
                kind->addItem(QString::fromStdString(k.title), QString::fromStdString(k.key));
                kind->setItemData(kind->count() - 1, QString::fromStdString(k.about), Qt::ToolTipRole);
            }
            connect(kind, &QComboBox::activated, this, [this, kind, i](int index) {
                if (i < plan().microphones.size())
                    change(tr("Microphone: %1").arg(kind->itemText(index)),
                           [&](CabPlan& p) { p.microphones[i].kind = kind->itemData(index).toString().toStdString(); });
            });
            table_->setCellWidget(row, kKind, kind);
        }
        kind->setCurrentIndex(kind->findData(QString::fromStdString(m.kind)));
        kind->setToolTip(QString::fromStdString(microphoneOf(m.kind).value().about));
        const auto put = [&](Column c, const QString& text, bool editable) {
            table_->setItem(row, c, figureCell(text, editable));
        };
        put(kDistance, shownFigure(100.0 * m.place.distanceM, 1), true);
        put(kOffset, shownFigure(100.0 * m.place.offsetM, 1), true);
        put(kAngle, shownFigure(m.place.angleDeg, 0), true);
        put(kGain, shownFigure(m.gainDb, 1), true);
        put(kDelay, shownFigure(m.delayMs, 2), true);
        auto* over = wordCell(QString());
        over->setFlags(over->flags() | Qt::ItemIsUserCheckable);
        over->setCheckState(m.invert ? Qt::Checked : Qt::Unchecked);
        table_->setItem(row, kOver, over);
        const auto of = [&](std::size_t at) -> const PlacedFigures& { return placed_.figures.microphones[at]; };
        const auto setting = settingOf(plan()).value();
        put(kTravel, shownFigure(1000.0 * travelM(setting, m.place) / kSpeedOfSound, 2), false);
        put(kPressure,
            isTold ? tr("%1/%2").arg(shownFigure(of(i).soundPressureDb, 0), shownFigure(of(i).mostSplDb, 0)) : none,
            false);
        put(kSpill, isTold && of(i).spill ? shownFigure(of(i).spill->spillDb, 1) : none, false);
        table_->item(row, kPressure)
            ->setToolTip(tr("Its sound is %1 ms on the way; of the second amplifier it hears %2 dB")
                             .arg(table_->item(row, kTravel)->text(), table_->item(row, kSpill)->text()));
    }
    table_->setFixedHeight(34 + 28 * std::clamp(int(rows.size()), 1, 4) + 2);
    table_->selectRow(int(chosen()));
    refreshing_ = false;
}

void PlacePage::compute()
{
    prepareHearing();
    if (computed_ != plan()) {
        using Answer = std::shared_ptr<Result<PlacedPlan>>;
        figuring_.run<Answer>(
            tr("Computing the microphones"),
            [plan = plan()](const Progress& p) {
                return std::make_shared<Result<PlacedPlan>>(placeMicrophones(plan, p));
            },
            [this, of = plan()](Answer answer) {
                if (!*answer) return;
                computed_ = of;
                placed_ = std::move(**answer);
                showCurves();
                fillTable();
                tell();
                emit stateChanged();
            });
    }
    showCurves();
    MapOf wanted{plan(), plan().microphones[chosen()], line_};
    const Span span = spanOf(line_, wanted.microphone);
    wanted.plan.microphones.clear(); // the others do not change the map, nor does where on its line the microphone is
    wanted.plan.watts = wanted.plan.spillM = 0.0;
    wanted.microphone.gainDb = wanted.microphone.delayMs = 0.0;
    wanted.microphone.invert = false;
    valueOn(line_, wanted.microphone.place) = span.to;
    if (shown_ == wanted) return;
    shown_ = wanted;
    const Setting setting = settingOf(plan()).value();
    const PlacedMicrophone microphone = plan().microphones[chosen()];
    using Answer = std::shared_ptr<Result<PlacementMap>>;
    // Coarse first, as the eye wants something to look at.
    const auto run = [this, setting, microphone, span](std::size_t positions, std::size_t bands, auto next) {
        map_.run<Answer>(
            tr("Drawing the map"),
            [=, line = line_](const Progress& p) {
                return std::make_shared<Result<PlacementMap>>(
                    placementMap(setting, microphone, line, span.from, span.to, positions, bands, p));
            },
            [this, next](Answer answer) {
                if (*answer)
                    next(std::move(**answer));
                else if (answer->error().code != ErrorCode::Cancelled)
                    tellFailure(answer->error());
                tell();
                emit stateChanged();
            });
    };
    picture_->setMap(std::nullopt, lineName(line_), true);
    run(9, 24, [this, run](PlacementMap coarse) {
        picture_->setMap(std::move(coarse), lineName(line_), true);
        picture_->setPlace(position());
        run(49, 96, [this](PlacementMap fine) {
            picture_->setMap(std::move(fine), lineName(line_), false);
            picture_->setPlace(position());
        });
    });
}

/// The responses of the other microphones, and of all together.
void PlacePage::showCurves()
{
    const PlanFigures* figures = figuresOfPlan();
    if (!figures) return;
    std::vector<PlaceMap::Curve> curves;
    for (std::size_t i = 0; i < figures->microphones.size(); ++i)
        if (i != chosen()) curves.push_back({titleOf(plan().microphones[i]), figures->microphones[i].response, false});
    if (figures->microphones.size() > 1) curves.push_back({tr("all together"), figures->sum, true});
    picture_->setCurves(std::move(curves));
}

/// What the place does to the tone, against where the line begins.
void PlacePage::tell()
{
    const PlacedMicrophone& m = plan().microphones[chosen()];
    const double zero = line_ != MapLine::Distance ? 0.0 : m.place.distanceM > 0.0 ? 0.3 : -0.3;
    const auto here = picture_->responseHere(), there = picture_->responseAt(zero);
    if (here.empty()) return sentence_->setText(tr("Computing what %1 hears \u2026").arg(titleOf(m)));
    const QString words = QString::fromStdString(differenceWords(differenceOf(here, there), 2));
    const QString against = line_ == MapLine::Offset     ? tr("the cone's centre")
                            : line_ == MapLine::Distance ? tr("%1 cm").arg(shownFigure(100.0 * zero, 0))
                                                         : tr("looking straight");
    if (std::abs(position() - zero) < 1e-9)
        return sentence_->setText(tr("%1: move it on the map, by a click or the arrow keys.").arg(titleOf(m)));
    sentence_->setText(tr("%1: %2 against %3.").arg(titleOf(m), words, against));
}

bool PlacePage::isApart() const { return apart_->isChecked() && plan().microphones.size() > 1; }

int PlacePage::rateHz() const
{
    return session().document().sampleRateHz > 0 ? session().document().sampleRateHz : 48000;
}

/// Makes the impulse that is heard; until it is there, one hears that of the places before.
void PlacePage::prepareHearing()
{
    if (heardOf_ && *heardOf_ == std::tuple(plan(), isApart(), rateHz())) return;
    const std::tuple wanted(plan(), isApart(), rateHz());
    heardOf_ = wanted;
    using Answer = std::shared_ptr<Result<Recording>>;
    hearing_.run<Answer>(
        tr("Preparing what is heard"),
        [wanted](const Progress& p) {
            const auto& [plan, isApart, rate] = wanted;
            return std::make_shared<Result<Recording>>(impulseOfPlaced(plan, {channelsOf(isApart), rate}, p));
        },
        [this](Answer made) {
            if (!*made) return heardOf_.reset();
            heard_ = std::make_shared<const Recording>(std::move(**made));
            emit auditionChanged();
        });
}

void PlacePage::save(bool intoRig)
{
    const bool isApart = this->isApart();
    const int rate = rateHz();
    using Answer = std::shared_ptr<Result<Recording>>;
    make_.run<Answer>(
        tr("Making the impulse"),
        [plan = plan(), isApart, rate](const Progress& p) {
            return std::make_shared<Result<Recording>>(impulseOfPlaced(plan, {channelsOf(isApart), rate}, p));
        },
        [this, plan = plan(), isApart, intoRig](Answer made) {
            const QString name =
                tr("%1 %2").arg(QString::fromStdString(plan.cabinet), titleOf(plan.microphones.front()));
            const auto kept = *made ? session().rigs().addImpulse(**made, name, madeOf(plan, isApart))
                                    : Result<std::string>(made->error());
            if (!kept) return tellFailure(kept.error());
            session().note("impulse", tr("Impulse kept: %1").arg(madeOf(plan, isApart)));
            if (intoRig && session().layer()) putIntoRig(session(), *kept);
            emit stateChanged();
            emit auditionChanged();
        });
}

BenchFindings PlacePage::findings() const
{
    const bool isTold = session().isOpen() && figuresOfPlan();
    return {isTold ? placed_.findings : std::vector<Finding>{}, tr("Every microphone takes what reaches it.")};
}

AuditionRequest PlacePage::audition() const
{
    if (!session().isOpen() || !session().take()) return {};
    return hearImpulses(session(), heard_ ? std::vector<HeardImpulse>{{tr("These places"), {}, heard_}}
                                          : std::vector<HeardImpulse>{});
}

} // namespace gristle::app
