#include "engine/rt/hazard_slot.h"

#include <QtTest>
#include <condition_variable>
#include <mutex>
#include <thread>

using namespace gristle::engine;

namespace {

/// Runs two threads one step at a time, in an order that is given: before each step a thread waits for its turn. When
/// the order is used up, or the other one is through, it runs on.
class Turns {
public:
    static inline Turns* now = nullptr;
    static inline thread_local int self = -1;

    explicit Turns(std::vector<int> order) : order_(std::move(order)) { now = this; }
    ~Turns() { now = nullptr; }
    void step()
    {
        if (self < 0) return;
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] { return at_ == order_.size() || order_[at_] == self || isThrough_[1 - self]; });
        if (at_ < order_.size() && order_[at_] == self) ++at_;
        changed_.notify_all();
    }
    void run(int who, const std::function<void()>& work)
    {
        self = who;
        work();
        const std::lock_guard lock(mutex_);
        isThrough_[who] = true;
        changed_.notify_all();
    }

private:
    std::vector<int> order_;
    std::size_t at_ = 0;
    bool isThrough_[2] = {false, false};
    std::mutex mutex_;
    std::condition_variable changed_;
};

/// An atomic each access to which is a step.
template<typename T> class Stepped {
public:
    Stepped(T v = {}) : value_(v) {}
    T load() const { return Turns::now->step(), value_.load(); }
    void store(T v) { Turns::now->step(), value_.store(v); }
    bool compare_exchange_strong(T& expected, T wanted)
    {
        return Turns::now->step(), value_.compare_exchange_strong(expected, wanted);
    }

private:
    std::atomic<T> value_;
};

struct Version {
    std::atomic<bool> isGone{false};
};

/// What the real one must not do: it looks at what is wanted once only, and announces it then.
template<typename T> class Careless {
public:
    void set(std::shared_ptr<T> value)
    {
        alive_.push_back(std::move(value));
        wanted_.store(alive_.back().get());
        const T* const wanted = wanted_.load();
        const T* const held = held_.load();
        std::erase_if(alive_, [&](const auto& v) { return v.get() != wanted && v.get() != held; });
    }
    T* wanted() { return wanted_.load(); }
    bool take(std::size_t, T* value) { return held_.store(value), true; }
    void release(std::size_t) { held_.store(nullptr); }

private:
    std::vector<std::shared_ptr<T>> alive_;
    Stepped<T*> wanted_{nullptr}, held_{nullptr};
};

/// The control thread sets versions, the audio thread takes one up, uses it over two steps, and takes up the next one
/// in its other hold while it still uses the first. @return uses of a version that was gone, over all orders of their
/// steps
template<typename Slot> int wrongUses(std::size_t controlSteps, std::size_t audioSteps, std::size_t holds)
{
    int wrong = 0;
    std::vector<int> order(controlSteps + audioSteps, 1);
    std::fill_n(order.begin(), controlSteps, 0);
    do {
        Turns turns(order);
        // They stay in memory, so that a use of one that was let go is a flag and no crash.
        Version versions[3];
        const auto version = [&](int i) {
            return std::shared_ptr<Version>(&versions[i], [](Version* v) { v->isGone = true; });
        };
        Slot slot;
        slot.set(version(0));
        const auto control = [&] {
            slot.set(version(1));
            slot.set(version(2));
        };
        const auto audio = [&] {
            const Version* used[2] = {nullptr, nullptr};
            std::size_t hold = 0;
            for (int block = 0; block < 2; ++block) {
                Version* const next = slot.wanted();
                used[hold] = slot.take(hold, next) ? next : nullptr;
                for (const Version* v : used)
                    if (v && v->isGone) ++wrong;
                if (holds > 1) hold = 1 - hold;
            }
        };
        std::thread first([&] { turns.run(0, control); });
        std::thread second([&] { turns.run(1, audio); });
        first.join();
        second.join();
    } while (std::next_permutation(order.begin(), order.end()));
    return wrong;
}

template<typename T> using StepSlot = HazardSlot<T, 2, Stepped>;

} // namespace

/// One control thread, one audio thread, and every order in which their steps can fall.
class TestHazardSlot : public QObject {
    Q_OBJECT
private slots:
    void whatIsUsedIsNeverLetGo();
    void theTestSeesACarelessOne();
    void oldVersionsGo();
};

void TestHazardSlot::whatIsUsedIsNeverLetGo() { QCOMPARE(wrongUses<StepSlot<Version>>(8, 6, 2), 0); }

/// The same orders find the fault in a slot that does not look again.
void TestHazardSlot::theTestSeesACarelessOne() { QVERIFY(wrongUses<Careless<Version>>(6, 4, 1) > 0); }

void TestHazardSlot::oldVersionsGo()
{
    HazardSlot<int, 2> slot;
    for (int i = 0; i < 5; ++i) {
        slot.set(std::make_shared<int>(i));
        QCOMPARE(slot.alive().size(), std::size_t(1)); // nobody used the one before
    }
    QVERIFY(slot.take(0, slot.wanted()));
    slot.set(std::make_shared<int>(5));
    slot.set(std::make_shared<int>(6));
    QCOMPARE(slot.alive().size(), std::size_t(2)); // 4 is held, 6 is wanted
    QCOMPARE(*slot.held(0), 4);
    QVERIFY(slot.take(1, slot.wanted()));
    slot.release(0);
    slot.collect();
    QCOMPARE(slot.alive().size(), std::size_t(1));
    slot.drop(slot.held(1));
    QVERIFY(!slot.wanted());
    slot.release(1);
    slot.collect();
    QVERIFY(slot.alive().empty());
}

QTEST_GUILESS_MAIN(TestHazardSlot)
#include "test_hazard_slot.moc"
