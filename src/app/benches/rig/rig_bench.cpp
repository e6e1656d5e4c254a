#include "app/benches/rig/rig_bench.h"

#include "app/benches/rig/ladder.h"
#include "app/benches/rig/rig_against.h"
#include "app/benches/rig/stage_panel.h"
#include "app/models/slots.h"
#include "core/rig/starting_points.h"

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

QPushButton* button(const QString& text, const char* name, const QString& about, QWidget* parent)
{
    auto* b = new QPushButton(text, parent);
    b->setObjectName(name);
    b->setAccessibleName(about);
    b->setToolTip(about);
    return b;
}

} // namespace

RigBench::RigBench(const BenchContext& context, QWidget* parent) : Bench(context, tr("Rig"), 3, parent)
{
    askImpulse = [this] {
        return QFileDialog::getOpenFileName(this, tr("Bring an impulse in"), QString(),
                                            tr("Audio (*.wav *.aif *.aiff *.flac)"));
    };
    askFolder = [this] {
        return QFileDialog::getExistingDirectory(this, tr("Look for the missing impulse in a folder"));
    };
    build();
    for (auto signal : {&SessionModel::rigChanged, &SessionModel::takesChanged})
        connect(&session(), signal, this, &RigBench::refresh);
    connect(&session(), &SessionModel::pathChanged, this, [this] {
        lanes_.clear();
        refresh();
    });
    connect(&session(), &SessionModel::measured, this, &RigBench::measureChain);
    connect(&session(), &SessionModel::loopChanged, this, [this] {
        measureChain();
        refreshStage();
    });
    connect(&Theme::instance(), &Theme::changed, this, &RigBench::refresh);
}

void RigBench::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(26, 18, 26, 12);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    auto* question = new QLabel(tr("What does each stage do to the next?"), this);
    question->setFont(Theme::instance().text(TextSize::Heading, true));
    question->setWordWrap(true); // before a rig's name is cut
    head->addWidget(question, 1);
    rigs_ = new QComboBox(this);
    rigs_->setObjectName("rigChoice");
    rigs_->setAccessibleName(tr("Rig of this layer"));
    rigs_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    connect(rigs_, &QComboBox::activated, this,
            [this](int index) { session().rigs().choose(rigs_->itemData(index).toString().toStdString()); });
    head->addWidget(rigs_);
    auto* start =
        button(tr("Start from"), "startFrom", tr("Eight rigs to begin with; the present one stays a version"), this);
    start->setMenu(new QMenu(start));
    start->menu()->setToolTipsVisible(true);
    for (const StartingPoint& point : startingPoints()) {
        QAction* action = start->menu()->addAction(tr(point.title));
        action->setToolTip(tr(point.listen));
        connect(action, &QAction::triggered, this, [this, &point] {
            const auto files = session().folder().impulseFiles();
            const double tempo = session().song() ? session().song()->tempoBpm : 120.0;
            change(tr("Started from: %1").arg(tr(point.title)), [&](RigDocument& r) {
                const double output = r.outputDb;
                r = rigOf(point, files.empty() ? std::string() : files.front(), tempo);
                r.outputDb = output;
            });
            chooseStage(0);
        });
    }
    head->addWidget(start);
    auto* forPart = button(tr("To the part"), "rigForPart", tr("Give all layers of this part the same rig"), this);
    connect(forPart, &QPushButton::clicked, this, [this] { session().rigs().giveToPart(); });
    head->addWidget(forPart);
    column->addLayout(head);
    against_ = new RigAgainst(session(), this);
    connect(against_, &RigAgainst::chosen, this, [this] {
        refresh();
        emit auditionChanged();
    });
    column->addWidget(against_);
    ladder_ = new Ladder(this);
    connect(ladder_, &Ladder::choose, this, &RigBench::chooseStage);
    connect(ladder_, &Ladder::open, this, [this](int stage) { openLane(stage, 0); });
    connect(ladder_, &Ladder::move, this, &RigBench::moveStage);
    connect(ladder_, &Ladder::remove, this, &RigBench::removeStage);
    connect(ladder_, &Ladder::insertWanted, this, [this] { findChild<QPushButton*>("addStage")->showMenu(); });
    column->addWidget(ladder_, 5);
    readings_ = new QLabel(this);
    readings_->setObjectName("stageReadings");
    readings_->setFont(Theme::instance().text(TextSize::Small));
    readings_->setWordWrap(true);
    readings_->setToolTip(tr("The ceiling: from where on a held tone of 220 Hz comes out with a tenth of harmonics, or "
                             "does not get louder any more. Noise while playing: gates open, compressors at work."));
    column->addWidget(readings_);
    connect(&meter_, &ChainMeter::measured, this, [this] {
        showChain();
        emit stateChanged();
    });
    column->addWidget(buildChainRow());
    stage_ = new StagePanel(session(), this);
    connect(stage_, &StagePanel::controlChanged, this, &RigBench::setControl);
    connect(stage_, &StagePanel::refused, this, &RigBench::failed);
    connect(stage_, &StagePanel::fileWanted, this, &RigBench::bringImpulse);
    connect(stage_, &StagePanel::laneOpened, this, [this](int lane) { openLane(ladder_->chosen(), lane); });
    connect(stage_, &StagePanel::laneWanted, this, &RigBench::addLane);
    connect(stage_, &StagePanel::placesChanged, this, &RigBench::auditionChanged);
    column->addWidget(stage_, 4);
    line_ = new QLineEdit(this);
    line_->setObjectName("recallLine");
    line_->setAccessibleName(tr("Recall line of the rig"));
    line_->setToolTip(tr("The whole chain as one line: stages between |, lanes in { ; }. Type and press Enter."));
    line_->setFont(Theme::instance().mono(TextSize::Small));
    connect(line_, &QLineEdit::editingFinished, this, &RigBench::writeLine);
    column->addWidget(line_);
}

QWidget* RigBench::buildChainRow()
{
    auto* row = new QWidget(this);
    auto* layout = new QHBoxLayout(row);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(6);
    auto* add =
        button(tr("Add a stage"), "addStage", tr("Add a stage behind the chosen one; Insert on the ladder"), row);
    auto* menu = new QMenu(add);
    std::string group;
    QMenu* ofGroup = nullptr; // a menu each, so that none is longer than the screen
    for (const NodeType& type : nodeTypes()) {
        if (!ofGroup || type.group != group) {
            ofGroup = menu->addMenu(tr((group = type.group).c_str()));
            ofGroup->setToolTipsVisible(true);
        }
        QAction* action = ofGroup->addAction(QString::fromStdString(type.title));
        action->setToolTip(QString::fromStdString(type.about));
        connect(action, &QAction::triggered, this, [this, name = type.type] {
            const int at = lanes_.in(rig_).empty() ? 0 : ladder_->chosen() + 1;
            RigNode node;
            node.type = name;
            const auto files = session().folder().impulseFiles();
            if (name == "impulse" && !files.empty()) node.values["file"] = files.front();
            change(tr("Stage added: %1").arg(QString::fromStdString(name)),
                   [&](RigDocument& r) { lanes_.in(r).insert(lanes_.in(r).begin() + at, node); });
            chooseStage(at);
        });
    }
    menu->addSeparator();
    QAction* split = menu->addAction(tr("A clean lane beside the chosen stage"));
    split->setToolTip(tr("Both are added up, as loud as the stage alone"));
    connect(split, &QAction::triggered, this, &RigBench::splitStage);
    add->setMenu(menu);
    leave_ = button(tr("\u2039 Chain"), "leaveLane", tr("Back to the chain that this lane is part of"), row);
    connect(leave_, &QPushButton::clicked, this, &RigBench::leaveLane);
    layout->addWidget(leave_);
    layout->addWidget(add);
    bypass_ = button(tr("Bypass"), "bypassStage", tr("Let the signal pass the chosen stage"), row);
    bypass_->setCheckable(true);
    connect(bypass_, &QPushButton::clicked, this, [this](bool on) {
        const std::size_t at = std::size_t(ladder_->chosen());
        change(on ? tr("Stage bypassed") : tr("Stage active again"),
               [&](RigDocument& r) { lanes_.in(r)[at].bypass = on; });
    });
    earlier_ = button(tr("Earlier"), "stageEarlier",
                      tr("Move the chosen stage one step towards the input; on the ladder Ctrl Left, or drag it"), row);
    later_ = button(tr("Later"), "stageLater",
                    tr("Move the chosen stage one step towards the output; on the ladder Ctrl Right, or drag it"), row);
    for (const int by : {-1, 1})
        connect(by < 0 ? earlier_ : later_, &QPushButton::clicked, this,
                [this, by] { moveStage(ladder_->chosen(), ladder_->chosen() + by); });
    remove_ = button(tr("Remove"), "removeStage", tr("Take the chosen stage out; Delete on the ladder"), row);
    connect(remove_, &QPushButton::clicked, this, [this] { removeStage(ladder_->chosen()); });
    for (QWidget* b : {bypass_, earlier_, later_, remove_}) layout->addWidget(b);
    drop_ = button(tr("Drop lane"), "dropLane", tr("Take this lane out of the split"), row);
    connect(drop_, &QPushButton::clicked, this, &RigBench::dropLane);
    layout->addWidget(drop_);
    layout->addStretch(1);
    outputLabel_ = new QLabel(tr("output"), row);
    output_ = new QDoubleSpinBox(row);
    output_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    output_->setObjectName("rigOutput");
    output_->setAccessibleName(tr("Output level of the rig"));
    output_->setRange(-60.0, 60.0);
    output_->setDecimals(1);
    output_->setSuffix(tr(" dB"));
    connect(output_, &QDoubleSpinBox::editingFinished, this, [this] {
        if (refreshing_ || output_->value() == rig_.outputDb) return;
        change(tr("Rig output %1 dB").arg(output_->value()), [&](RigDocument& r) { r.outputDb = output_->value(); });
    });
    layout->addWidget(outputLabel_);
    layout->addWidget(output_);
    return row;
}

bool RigBench::isBusy() const
{
    return meter_.isBusy() || joinTask_.isBusy() || lookTask_.isBusy() || stage_->isBusy();
}

RigNode* RigBench::chosenNode()
{
    const std::size_t at = std::size_t(ladder_->chosen());
    RigChain& chain = lanes_.in(rig_);
    return at < chain.size() ? &chain[at] : nullptr;
}

void RigBench::change(const QString& text, const std::function<void(RigDocument&)>& edit, int mergeKey)
{
    if (!session().layer()) return;
    RigDocument rig = rig_;
    edit(rig);
    session().rigs().set(std::move(rig), text, mergeKey);
    emit auditionChanged();
}

void RigBench::moveStage(int stage, int to)
{
    const int count = int(lanes_.in(rig_).size());
    if (std::min(stage, to) < 0 || std::max(stage, to) >= count) return;
    change(tr("Stage moved"), [&](RigDocument& r) {
        RigChain& chain = lanes_.in(r);
        const auto first = chain.begin() + std::min(stage, to), end = chain.begin() + std::max(stage, to) + 1;
        std::rotate(first, stage < to ? first + 1 : end - 1, end);
    });
    chooseStage(to);
}

void RigBench::removeStage(int stage)
{
    if (stage < 0 || stage >= int(lanes_.in(rig_).size())) return;
    change(tr("Stage removed"), [&](RigDocument& r) { lanes_.in(r).erase(lanes_.in(r).begin() + stage); });
}

void RigBench::setControl(const QString& key, const QString& text)
{
    const RigNode* node = chosenNode();
    const NodeType* type = node ? typeOf(*node) : nullptr;
    const ParameterSpec* spec = type ? type->find(key.toStdString()) : nullptr;
    if (!spec) return;
    const auto value = parseValue(*type, *spec, text.toStdString());
    if (!value) return;
    const std::size_t at = std::size_t(ladder_->chosen());
    const int mergeKey = (int(lanes_.depth()) * 256 + int(at)) * 64 + int(spec - type->parameters.data());
    change(
        tr("%1 %2 %3").arg(QString::fromStdString(node->type), QString::fromStdString(spec->label), text),
        [&](RigDocument& r) { lanes_.in(r)[at].values[spec->key] = *value; }, mergeKey);
}

void RigBench::bringImpulse(const QString& key)
{
    const QString file = askImpulse();
    if (file.isEmpty()) return;
    auto name = session().rigs().importImpulse(file);
    if (!name)
        return void(
            emit failed(QString::fromStdString(name.error().message), QString::fromStdString(name.error().remedy)));
    setControl(key, QString::fromStdString(*name));
}

/// By their content: what was renamed or moved is found again.
void RigBench::lookForImpulses()
{
    std::vector<std::string> missing;
    const auto look = [&](const auto& self, const RigChain& chain) -> void {
        for (const RigNode& node : chain) {
            for (const RigChain& lane : node.lanes) self(self, lane);
            const auto file = node.values.find("file");
            if (node.type != "impulse" || file == node.values.end()) continue;
            const auto& name = std::get<std::string>(file->second);
            if (!std::filesystem::exists(session().folder().path() / name)) missing.push_back(name);
        }
    };
    look(look, rig_.chain);
    const QString folder = missing.empty() ? QString() : askFolder();
    if (folder.isEmpty()) return;
    lookTask_.run<std::optional<Error>>(
        tr("Looking for the impulse"),
        [missing, where = std::filesystem::path(folder.toStdString()),
         own = session().folder().path()](const Progress& p) {
            std::optional<Error> trouble;
            for (const std::string& name : missing)
                if (const auto found = SessionFolder::restoreImpulse(own, name, where, p); !found)
                    trouble = found.error();
            return trouble;
        },
        [this](std::optional<Error> trouble) {
            if (trouble) emit failed(QString::fromStdString(trouble->message), QString::fromStdString(trouble->remedy));
            refresh();
            emit auditionChanged();
        });
}

void RigBench::writeLine()
{
    if (refreshing_ || !session().layer() || line_->text().toStdString() == recallLine(rig_.chain)) return;
    auto chain = parseRecallLine(line_->text().toStdString());
    if (!chain)
        return void(
            emit failed(QString::fromStdString(chain.error().message), QString::fromStdString(chain.error().remedy)));
    keepUnknown(rig_.chain, *chain);
    change(tr("Chain typed"), [&](RigDocument& r) { r.chain = *chain; });
}

void RigBench::chooseStage(int stage)
{
    ladder_->setChosen(stage);
    refreshStage();
    showChain();
}

void RigBench::refresh()
{
    joinTask_.cancel(); // what it works on is no longer what there is
    if (!session().isOpen()) return;
    refreshing_ = true;
    warnings_.clear();
    rig_ = session().rigs().inHand(&warnings_);
    const Layer* layer = session().layer();
    rigs_->clear();
    rigs_->addItem(tr("dry, no rig"), QString());
    for (const auto& file : session().folder().rigFiles()) {
        const QString name = QString::fromStdString(file).section('/', -1).chopped(5);
        rigs_->addItem(name.section(".v", 0, -2) + tr(", version ") + name.section(".v", -1),
                       QString::fromStdString(file));
    }
    rigs_->setCurrentIndex(layer ? std::max(0, rigs_->findData(QString::fromStdString(layer->rig))) : 0);
    QString about = tr("what you hear is matched in loudness");
    const Take* take = session().take();
    if (take && take->input.assumed) about += tr(" \u00b7 volts are an assumption until the input is calibrated");
    against_->tell(rig_, about);
    lanes_.fit(rig_);
    const bool isLane = !lanes_.isOutermost();
    for (QPushButton* b : {leave_, drop_}) b->setVisible(isLane);
    outputLabel_->setVisible(!isLane);
    output_->setVisible(!isLane);
    ladder_->setChain(lanes_.in(rig_), lanes_.lane());
    line_->setText(QString::fromStdString(recallLine(rig_.chain)));
    line_->setCursorPosition(0);
    output_->setValue(rig_.outputDb);
    refreshing_ = false;
    refreshStage();
    measureChain();
    emit stateChanged();
}

void RigBench::refreshStage()
{
    if (!isVisible() || !session().isOpen()) return;
    const RigNode* node = chosenNode();
    for (QPushButton* b : {bypass_, remove_}) b->setEnabled(node != nullptr);
    earlier_->setEnabled(node && ladder_->chosen() > 0);
    later_->setEnabled(node && ladder_->chosen() + 1 < int(lanes_.in(rig_).size()));
    bypass_->setChecked(node && node->bypass);
    QStringList files;
    for (const auto& f : session().folder().impulseFiles()) files << QString::fromStdString(f);
    StagePanel::Subject subject;
    if (session().take()) subject.recipe = recipe(lanes_.straight(rig_));
    subject.stage = lanes_.leadingUp() + std::size_t(ladder_->chosen());
    if (const Song* song = session().song()) {
        subject.beatS = 60.0 / song->tempoBpm;
        subject.beats = std::max(1, int(std::lround(session().loop().barSeconds() / subject.beatS)));
    }
    stage_->setStage(node, files, std::move(subject));
}

void RigBench::openLane(int stage, int lane)
{
    if (stage < 0 || !lanes_.open(rig_, std::size_t(stage), std::size_t(lane))) return;
    ladder_->setChosen(0);
    refresh();
}

void RigBench::leaveLane()
{
    if (lanes_.isOutermost()) return;
    ladder_->setChosen(int(lanes_.leave()));
    refresh();
}

void RigBench::dropLane()
{
    if (lanes_.isOutermost()) return;
    RigDocument rest = lanes_.withoutLane(rig_);
    leaveLane();
    change(tr("Lane taken out"), [&](RigDocument& r) { r = std::move(rest); });
}

void RigBench::splitStage()
{
    const RigNode* const stage = chosenNode();
    if (!stage || !session().take()) return;
    const RigNode alone = *stage;
    RigDocument rig = rig_;
    RigNode split;
    split.type = "lanes";
    split.lanes = {{alone}, {}};
    const auto at = std::size_t(ladder_->chosen());
    lanes_.in(rig)[at] = split;
    changeJoined(tr("A clean lane beside %1").arg(QString::fromStdString(alone.type)), std::move(rig), at, {alone});
}

void RigBench::addLane()
{
    const RigNode* const split = chosenNode();
    if (!split || !split->isSplit() || !session().take()) return;
    const RigChain alone{*split};
    RigDocument rig = rig_;
    const auto at = std::size_t(ladder_->chosen());
    lanes_.in(rig)[at].lanes.emplace_back();
    changeJoined(tr("A clean lane added"), std::move(rig), at, alone);
}

/// The sum's gain is worked out on this loop, so that it is as loud as what stood alone there.
void RigBench::changeJoined(const QString& text, RigDocument rig, std::size_t split, RigChain alone)
{
    LayerRecipe recipe = this->recipe(lanes_.straight(rig_));
    recipe.rig.chain.erase(recipe.rig.chain.begin() + long(lanes_.leadingUp()), recipe.rig.chain.end());
    const RigChain& chain = lanes_.in(rig);
    recipe.rig.chain.insert(recipe.rig.chain.end(), chain.begin(), chain.end());
    joinTask_.run<double>(
        tr("Measuring the lanes"),
        [recipe, at = lanes_.leadingUp() + split, alone](const Progress& p) {
            const auto gain = joinGainDb(recipe, at, alone, {p.stop, nullptr});
            return gain ? *gain : 0.0;
        },
        [this, text, rig, split](double gainDb) mutable {
            lanes_.in(rig)[split].values["gain"] = gainDb;
            change(text, [&](RigDocument& r) { r = std::move(rig); });
            refreshStage();
        });
}

LayerRecipe RigBench::recipe(const RigDocument& rig) const
{
    LayerRecipe out = layerRecipe(session().folder(), *session().layer(), rig);
    out.allowMissing = true;
    out.effort = Effort::Draft;
    out.startS = session().loop().fromS();
    out.endS = session().loop().toS();
    const double duration = session().take()->endS();
    if (out.startS >= duration) out.startS = 0.0;
    out.endS = std::min(out.endS, duration);
    return out;
}

void RigBench::measureChain()
{
    if (!session().isOpen() || !session().take() || lanes_.in(rig_).empty()) {
        meter_.cancel();
        return showChain();
    }
    double restFrom = 0.0, restTo = 0.0;
    if (const auto m = session().measurements().inHand(); m && !m->channels[0].noise.rests.empty()) {
        const Stretch rest = m->channels[0].noise.rests.front();
        restFrom = double(rest.first) * HopTrack::kHopS;
        restTo = restFrom + std::min(1.0, double(rest.count) * HopTrack::kHopS);
    }
    const ChainMeter::Subject subject{recipe(lanes_.straight(rig_)), restFrom, restTo};
    if (isVisible())
        meter_.measure(subject);
    else if (!meter_.isOf(subject))
        meter_.cancel(); // what nobody looks at is not rendered, and what was measured of another rig is not told
    showChain();
}

/// What was measured, on the ladder and of the chosen stage.
void RigBench::showChain()
{
    const double outputDb = lanes_.isOutermost() ? rig_.outputDb : 0.0;
    const std::size_t before = lanes_.leadingUp(), stages = lanes_.in(rig_).size();
    if (meter_.failure()) ladder_->setEmptyText(QString::fromStdString(meter_.failure()->line()));
    std::vector<Rung> rungs;
    if (meter_.rungs().size() == before + stages + 1) {
        rungs.assign(meter_.rungs().begin() + long(before), meter_.rungs().end());
        rungs.front().name = "input";
        rungs.front().lanesDbu.clear();
    }
    std::vector<StageLimit> limits;
    std::optional<double> fullScale;
    if (meter_.limits() && meter_.limits()->stages.size() == before + stages + 1) {
        limits.assign(meter_.limits()->stages.begin() + long(before), meter_.limits()->stages.end());
        if (lanes_.isOutermost())
            fullScale = meter_.limits()->outputCeilingDbu;
        else
            limits.front() = {}; // of the stage before the split
    }
    const auto chosen = std::size_t(ladder_->chosen()) + 1; // behind what comes in
    if (meter_.failure())
        readings_->setText(QString::fromStdString(meter_.failure()->line()));
    else if (chosen >= rungs.size())
        readings_->setText(stages == 0 ? QString() : tr("Measuring \u2026"));
    else
        readings_->setText(
            stageReadings(lanes_.in(rig_)[chosen - 1], rungs[chosen], limits.empty() ? nullptr : &limits[chosen]));
    ladder_->setRungs(std::move(rungs), outputDb);
    ladder_->setLimits(std::move(limits), fullScale);
}

AuditionRequest RigBench::audition() const
{
    AuditionRequest out;
    out.kind = "rig";
    if (!session().isOpen() || !session().take()) return out;
    const std::string layer = session().layer()->name;
    out.subject =
        tr("%1 through %2")
            .arg(QString::fromStdString(layer), rig_.chain.empty() ? tr("no rig") : QString::fromStdString(rig_.name));
    const auto slot = [&](const QString& title, const RigDocument& rig) {
        LayerRecipe recipe = layerRecipe(session().folder(), *session().layer(), rig);
        recipe.allowMissing = true;
        recipe.effort = Effort::Playing;
        out.slots_.push_back(layerSlot(title, recipe));
    };
    slot(tr("Dry"), {});
    if (rig_.chain.empty()) return out;
    // The one that this is held against, to hear what was done.
    if (const auto against = against_->other(rig_)) slot(against->title, against->rig);
    const auto& places = stage_->places();
    for (const double value : places.values) {
        RigDocument at = rig_;
        const auto stage = std::size_t(ladder_->chosen());
        if (stage >= lanes_.in(at).size()) break;
        lanes_.in(at)[stage].values[places.key] = value;
        slot(QStringLiteral("%1 %2").arg(QString::fromStdString(places.key),
                                         numberLabel(value, std::abs(value) < 100.0 ? 1 : 0)),
             at);
    }
    slot(tr("v%1").arg(rig_.version), rig_);
    out.slots_.back().live = layerRecipe(session().folder(), *session().layer(), rig_);
    out.active = out.slots_.size() - 1;
    return out;
}

} // namespace gristle::app
