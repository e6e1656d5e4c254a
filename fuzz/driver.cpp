// Feeds a target with changed seeds: `fuzz_NAME RUNS [SEED]`. A crash, a hang of over 20 s in one input or more than a
// gigabyte of memory ends it, with the input left in fuzz-failure.bin. The same seed gives the same inputs.

#include "fuzz/fuzz_target.h"

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <random>
#include <sys/mman.h>
#include <sys/resource.h>
#include <unistd.h>

namespace gristle::fuzz {

std::string fileOf(const std::uint8_t* bytes, std::size_t size)
{
    static const int handle = memfd_create("fuzz", 0);
    if (handle < 0 || ftruncate(handle, 0) != 0 || pwrite(handle, bytes, size, 0) != ssize_t(size)) std::abort();
    return "/proc/self/fd/" + std::to_string(handle);
}

} // namespace gristle::fuzz

namespace {

std::string current;

void keepAndDie(int signal)
{
    const int handle = open("fuzz-failure.bin", O_WRONLY | O_CREAT | O_TRUNC, 0644);
    if (handle >= 0 && write(handle, current.data(), current.size()) < 0) _exit(3);
    std::signal(signal, SIG_DFL);
    raise(signal);
}

class Mutator {
public:
    Mutator(std::vector<std::string> seeds, std::vector<std::string> words, unsigned seed)
        : seeds_(std::move(seeds)), words_(std::move(words)), random_(seed)
    {}

    std::string next()
    {
        std::string out = pick(seeds_);
        const std::size_t changes = below(2) ? 1 : std::size_t(1) << below(5);
        for (std::size_t i = 0; i < changes; ++i) change(out);
        if (out.size() > 65536) out.resize(65536);
        return out;
    }

private:
    std::size_t below(std::size_t n) { return n == 0 ? 0 : random_() % n; }
    const std::string& pick(const std::vector<std::string>& from) { return from[below(from.size())]; }
    void change(std::string& s)
    {
        const std::size_t at = below(s.size() + 1);
        // Heads hold what matters in binary files: half of all changes fall into the first 128 bytes.
        const std::size_t near = below(std::min<std::size_t>(s.size(), below(2) ? 128 : s.size()));
        switch (below(10)) {
        case 0:
            if (!s.empty()) s[near] = char(random_());
            break;
        case 1:
            if (!s.empty()) s[near] = char(s[near] ^ char(1 << below(8)));
            break;
        case 2: s.erase(at, below(s.size() - at + 1)); break;
        case 3: s.insert(at, s.substr(below(s.size() + 1), below(256))); break;
        case 4: { // extremes of whole numbers
            constexpr std::uint32_t kExtremes[] = {0,          1,          0x7F,      0x80,       0xFF,
                                                   0x7FFF,     0x8000,     0xFFFF,    0x7FFFFFFF, 0x80000000,
                                                   0xFFFFFFFF, 0x7F800000, 0x7FC00000};
            const std::uint32_t value = kExtremes[below(std::size(kExtremes))];
            const std::size_t bytes = std::size_t(1) << below(3);
            if (near + bytes <= s.size()) std::memcpy(s.data() + near, &value, bytes);
            break;
        }
        case 5:
            if (!words_.empty()) s.insert(at, pick(words_));
            break;
        case 6: {
            const std::string& other = pick(seeds_);
            s = s.substr(0, at) + other.substr(std::min(other.size(), at));
            break;
        }
        case 7: s.resize(at); break;
        default: changeNumber(s); break;
        }
    }

    /// Another number in the place of one that is written in digits.
    void changeNumber(std::string& s)
    {
        const auto first = s.find_first_of("0123456789", below(s.size() + 1));
        if (first == std::string::npos) return;
        const auto last = std::min(s.find_first_not_of("0123456789.", first), s.size());
        constexpr const char* kNumbers[] = {"0", "1", "10", "-1", "0.5", "100", "-60", "1e9", "2147483648", "-0.0"};
        s.replace(first, last - first, kNumbers[below(std::size(kNumbers))]);
    }

    std::vector<std::string> seeds_, words_;
    std::minstd_rand random_;
};

} // namespace

int main(int argc, char** argv)
{
    const long runs = argc > 1 ? std::atol(argv[1]) : 2000;
    const unsigned seed = argc > 2 ? unsigned(std::atol(argv[2])) : 1;
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
    const rlimit memory{1u << 30, 1u << 30};
    setrlimit(RLIMIT_AS, &memory);
#endif
    for (const int s : {SIGSEGV, SIGABRT, SIGBUS, SIGFPE, SIGILL, SIGALRM}) std::signal(s, keepAndDie);
    Mutator mutator(gristle::fuzz::seeds(), gristle::fuzz::words(), seed);
    for (long i = 0; i < runs; ++i) {
        current = i == 0 ? std::string() : mutator.next();
        alarm(20);
        LLVMFuzzerTestOneInput(reinterpret_cast<const std::uint8_t*>(current.data()), current.size());
    }
    alarm(0);
    std::printf("%ld inputs, no crash, no hang, less than a gigabyte\n", runs);
    return 0;
}
