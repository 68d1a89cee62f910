#include "debug/code_functions.h"

#include <algorithm>
#include <array>
#include <map>
#include <optional>
#include <set>
#include <vector>

#include <fmt/format.h>

#include "chip/avr/core/isa.h"
#include "chip/avr/device.h"
#include "debug/arch/avr/architecture.h"

namespace bramix::debug::avr {

namespace core = chip::avr;
using core::Op;

class CodeReader {
public:
    CodeReader(std::span<const std::uint16_t> flash, const core::ChipTable& chip) : flash_(flash), chip_(chip), reached_(flash.size(), false)
    {
        while (!flash_.empty() && flash_.back() == 0xFFFF)
            flash_ = flash_.first(flash_.size() - 1);
        reached_.resize(flash_.size());
    }

    Symbols read()
    {
        readVectors();
        followAll();
        // Each that is found may lead to others, and to more gaps.
        while (findUncalled())
            followAll();
        return functions();
    }

private:
    [[nodiscard]] core::Instruction at(std::uint32_t word) const { return core::decode(chip_.core, word, flash_[word], word + 1 < flash_.size() ? flash_[word + 1] : std::uint16_t{0xFFFF}); }
    static bool isNone(Op op) { return op == Op::undefined || op == Op::erased || op == Op::outside; }
    static bool skips(Op op) { return op == Op::cpse || op == Op::sbrc || op == Op::sbrs || op == Op::sbic || op == Op::sbis; }
    static bool ends(Op op) { return op == Op::ret || op == Op::reti || op == Op::rjmp || op == Op::jmp || op == Op::ijmp || op == Op::eijmp; }

    void begins(std::uint32_t word, const std::string& name = {})
    {
        if (word >= flash_.size())
            return;
        const auto [entry, fresh] = starts_.try_emplace(word, name);
        if (fresh)
            left_.push_back(word);
        else if (entry->second.empty())
            entry->second = name;
    }

    // A table of jumps, a slot for each vector; where there is no such table, the program begins at address 0 at once.
    void readVectors()
    {
        std::map<std::uint32_t, std::size_t> handlers;  // how many vectors go there
        std::vector<std::uint32_t> targets;
        for (std::uint32_t v = 0; v < chip_.vectors.size() && v * chip_.vectorWords < flash_.size(); ++v) {
            const core::Instruction i = at(v * chip_.vectorWords);
            if (i.op != Op::jmp && i.op != Op::rjmp)
                break;
            targets.push_back(i.target);
            ++handlers[i.target];
        }
        if (targets.size() < chip_.vectors.size()) {
            begins(0, "__init");
            return;
        }
        const auto tableEnd = std::min<std::uint32_t>(static_cast<std::uint32_t>(chip_.vectors.size()) * chip_.vectorWords, static_cast<std::uint32_t>(flash_.size()));
        std::fill_n(reached_.begin(), tableEnd, true);
        starts_[0] = "__vectors";
        begins(targets[0], "__init");
        // Where many go nobody waits for them.
        for (std::size_t v = 1; v < targets.size(); ++v)
            begins(targets[v], handlers[targets[v]] > 1 ? "__bad_interrupt" : fmt::format("__vector_{}", v));
    }

    void followAll()
    {
        while (!left_.empty()) {
            const std::uint32_t word = left_.back();
            left_.pop_back();
            follow(word, reached_, [this](std::uint32_t called) { begins(called); });
        }
    }

    // A few instructions, and then a jump through Z.
    [[nodiscard]] bool jumpsByZ(std::uint32_t word) const
    {
        constexpr int kFew = 10;
        for (int n = 0; n < kFew && word < flash_.size(); ++n) {
            const core::Instruction i = at(word);
            if (i.op == Op::ijmp || i.op == Op::eijmp)
                return true;
            if (isNone(i.op) || ends(i.op) || i.op == Op::push)
                return false;
            word += i.words;
        }
        return false;
    }

    // Marks all code that is come to from a place without a call. False where it comes to something that is none, or to where there is no flash.
    template <class Called>
    bool follow(std::uint32_t from, std::vector<bool>& seen, Called&& called)
    {
        bool sound = true;
        std::vector<std::uint32_t> next{from};
        while (!next.empty()) {
            std::uint32_t word = next.back();
            next.pop_back();
            bool skipped = false;  // the instruction before may pass over this one
            std::array<std::optional<std::uint8_t>, 2> z{};  // what has just been loaded into r30 and r31
            while (word < seen.size() && !seen[word]) {
                const core::Instruction i = at(word);
                if (isNone(i.op) || word + i.words > seen.size()) {
                    sound = false;
                    break;
                }
                for (std::uint32_t w = 0; w < i.words; ++w)
                    seen[word + w] = true;
                const std::uint32_t after = word + i.words;
                if ((i.op == Op::call || i.op == Op::rcall) && i.target != after)  // a call of what follows makes room on the stack
                    called(i.target);
                const bool jumps = i.op == Op::jmp || i.op == Op::rjmp;
                if (jumps && z[0] && z[1] && (*z[0] | *z[1] << 8) == static_cast<int>(after)) {
                    // To a prologue that the library's functions share, which comes back by Z.
                    prologues_.insert(i.target);
                    called(i.target);
                    next.push_back(after);
                } else if (jumps && jumpsByZ(i.target)) {
                    // To what takes the next place from a table.
                    called(i.target);
                    byTable_.insert(from);
                } else if (jumps || i.op == Op::brbs || i.op == Op::brbc) {
                    next.push_back(i.target);
                }
                if (i.op == Op::ijmp || i.op == Op::eijmp)
                    byTable_.insert(from);
                if (ends(i.op) && !skipped)
                    break;
                if (i.op == Op::ldi && i.d >= 30)
                    z[i.d - 30U] = static_cast<std::uint8_t>(i.k);
                else
                    z = {};
                skipped = skips(i.op);
                word = after;
            }
            sound = sound && word < seen.size();
        }
        return sound;
    }

    // A stretch behind the end of known code that nothing leads to, sound when it is followed.
    bool findUncalled()
    {
        for (std::uint32_t word = 1; word < flash_.size(); ++word) {
            if (reached_[word] || !reached_[word - 1] || tried_.contains(word))
                continue;
            tried_.insert(word);
            std::vector<bool> seen = reached_;
            bool calls = true;
            if (!follow(word, seen, [&](std::uint32_t to) { calls = calls && to < reached_.size() && !isNone(at(to).op); }) || !calls)
                continue;
            // What stands behind a function that goes on by a table of jumps is a part of it, if it does not begin as a function does.
            const auto before = std::prev(starts_.upper_bound(word));
            if (const Op first = at(word).op; byTable_.contains(before->first) && first != Op::push && isWhole(before->first, word)) {
                follow(word, reached_, [this](std::uint32_t called) { begins(called); });
                return true;
            }
            // It returns itself, or goes on in what is known.
            bool returns = false;
            for (std::uint32_t w = word; w < seen.size(); ++w)
                if (seen[w] && !reached_[w])
                    if (const core::Instruction i = at(w); i.op == Op::ret || i.op == Op::reti || ((i.op == Op::rjmp || i.op == Op::jmp) && i.target < reached_.size() && reached_[i.target]))
                        returns = true;
            if (!returns)
                continue;
            begins(word);
            return true;
        }
        return false;
    }

    // No gap between two places.
    [[nodiscard]] bool isWhole(std::uint32_t from, std::uint32_t to) const { return std::find(reached_.begin() + from, reached_.begin() + to, false) == reached_.begin() + to; }

    [[nodiscard]] Symbols functions() const
    {
        std::vector<Function> out;
        for (std::uint32_t word = 0; word < flash_.size();) {
            if (!reached_[word]) {
                ++word;
                continue;
            }
            const auto start = starts_.find(word);
            Function f;
            f.fromTable = f.fromCode = true;
            const bool prologue = prologues_.contains(word);
            f.name = prologue ? "__prologue_saves__" : start == starts_.end() || start->second.empty() ? fmt::format("code_{:04x}", word * 2) : start->second;
            const std::uint32_t begin = word;
            do
                ++word;
            while (word < flash_.size() && reached_[word] && (!starts_.contains(word) || (prologue && prologues_.contains(word))));
            f.ranges = {{begin * 2, word * 2}};
            out.push_back(std::move(f));
        }
        return Symbols::ofFunctions(std::move(out));
    }

    std::span<const std::uint16_t> flash_;
    const core::ChipTable& chip_;
    std::vector<bool> reached_;                     // words that are code
    std::map<std::uint32_t, std::string> starts_;   // with their names, where they have one of their own
    std::vector<std::uint32_t> left_;
    std::set<std::uint32_t> tried_;
    std::set<std::uint32_t> prologues_;             // where the one that functions share is entered
    std::set<std::uint32_t> byTable_;               // starts from which code goes on at a place out of a table
};

Symbols functionsOf(const chip::CodeView& code, const chip::Device& device)
{
    std::vector<std::uint16_t> words;
    for (std::size_t i = 0; i + 1 < code.bytes.size(); i += 2)
        words.push_back(static_cast<std::uint16_t>(code.bytes[i] | (code.bytes[i + 1] << 8)));
    return CodeReader(words, core::tableOf(device)).read();
}

}  // namespace bramix::debug::avr
