// The same instructions as cpu.cpp, fast: pages of memory are decoded once, and each decoded instruction goes to its own piece of code, which goes to the next one's.
//
// What is rare, or has to do with more than registers and plain memory, is left to the plain stepper, so that there is one truth of it.
#include <cstring>

#include "chip/riscv/core/cpu.h"

namespace bramix::chip::riscv {

namespace {

// Pieces of code: each once for instructions of two bytes and once for those of four, in this order.
#define BRAMIX_PIECES(X)                                                                                                                                                                                               \
    X(lui) X(auipc) X(jal) X(jalr) X(beq) X(bne) X(blt) X(bge) X(bltu) X(bgeu) X(lb) X(lh) X(lw) X(lbu) X(lhu) X(sb) X(sh) X(sw) X(addi) X(slti) X(sltiu) X(xori) X(ori) X(andi) X(slli) X(srli) X(srai) X(add) X(sub) \
        X(sll) X(slt) X(sltu) X(xor_) X(srl) X(sra) X(or_) X(and_) X(mul) X(mulh) X(mulhsu) X(mulhu) X(nop) X(stack)

enum Piece : std::uint8_t {
    kUndecoded, kPlain, kEnd,
#define BRAMIX_PIECE(name) k_##name##2, k_##name##4,
    BRAMIX_PIECES(BRAMIX_PIECE)
#undef BRAMIX_PIECE
};

constexpr std::uint32_t kPage = PageMap::kPageBytes;

Piece pieceOf(const Instruction& i)
{
    Piece two = kPlain;
    switch (i.op) {
    case Op::lui: two = k_lui2; break;
    case Op::auipc: two = k_auipc2; break;
    case Op::jal: two = k_jal2; break;
    case Op::jalr: two = k_jalr2; break;
    case Op::beq: two = k_beq2; break;
    case Op::bne: two = k_bne2; break;
    case Op::blt: two = k_blt2; break;
    case Op::bge: two = k_bge2; break;
    case Op::bltu: two = k_bltu2; break;
    case Op::bgeu: two = k_bgeu2; break;
    case Op::lb: two = k_lb2; break;
    case Op::lh: two = k_lh2; break;
    case Op::lw: two = k_lw2; break;
    case Op::lbu: two = k_lbu2; break;
    case Op::lhu: two = k_lhu2; break;
    case Op::sb: two = k_sb2; break;
    case Op::sh: two = k_sh2; break;
    case Op::sw: two = k_sw2; break;
    case Op::addi: two = k_addi2; break;
    case Op::slti: two = k_slti2; break;
    case Op::sltiu: two = k_sltiu2; break;
    case Op::xori: two = k_xori2; break;
    case Op::ori: two = k_ori2; break;
    case Op::andi: two = k_andi2; break;
    case Op::slli: two = k_slli2; break;
    case Op::srli: two = k_srli2; break;
    case Op::srai: two = k_srai2; break;
    case Op::add: two = k_add2; break;
    case Op::sub: two = k_sub2; break;
    case Op::sll: two = k_sll2; break;
    case Op::slt: two = k_slt2; break;
    case Op::sltu: two = k_sltu2; break;
    case Op::xor_: two = k_xor_2; break;
    case Op::srl: two = k_srl2; break;
    case Op::sra: two = k_sra2; break;
    case Op::or_: two = k_or_2; break;
    case Op::and_: two = k_and_2; break;
    case Op::mul: two = k_mul2; break;
    case Op::mulh: two = k_mulh2; break;
    case Op::mulhsu: two = k_mulhsu2; break;
    case Op::mulhu: two = k_mulhu2; break;
    case Op::fence: case Op::fencei: two = k_nop2; break;
    default: return kPlain;
    }
    const bool moves = i.op == Op::jal || i.op == Op::jalr || (i.op >= Op::beq && i.op <= Op::bgeu), stores = i.op == Op::sb || i.op == Op::sh || i.op == Op::sw, loads = i.op >= Op::lb && i.op <= Op::lhu;
    if (!moves && !stores && i.op != Op::fence && i.op != Op::fencei) {
        // Nothing is kept in x0; a load still looks. What sets the stack pointer tells how deep it goes.
        if (i.d == 0)
            two = loads ? kPlain : k_nop2;
        else if (i.d == 2)
            two = i.op == Op::addi ? k_stack2 : kPlain;
    }
    return two == kPlain ? kPlain : static_cast<Piece>(two + (i.size == 4 ? 1 : 0));
}

}  // namespace

void Cpu::forgetCode(std::uint32_t address)
{
    CodePage& page = pages_[(address / kPage) % kCodePages];
    if (page.tag != (address & ~(kPage - 1)))
        return;
    page.tag = 1;
    ++forgotten_;
}

void Cpu::forgetAllCode()
{
    for (CodePage& page : pages_)
        page.tag = 1;
    ++forgotten_;
}

Cpu::CodePage* Cpu::pageOf(std::uint32_t address)
{
    const std::uint32_t begin = address & ~(kPage - 1);
    CodePage& page = pages_[(address / kPage) % kCodePages];
    if (page.tag == begin) [[likely]]
        return &page;
    bus_.codeSeen(begin);
    const std::uint8_t* bytes = map_.readable(begin);
    if (bytes == nullptr)
        return nullptr;
    page.tag = begin;
    page.bytes = bytes;
    page.code.assign(kPage / 2 + 1, {});
    page.code.back().piece = kEnd;
    return &page;
}

Cpu::Decoded Cpu::decodedAt(const CodePage& page, std::uint32_t offset)
{
    std::uint32_t word = page.bytes[offset] | std::uint32_t{page.bytes[offset + 1]} << 8;
    if (isLong(word)) {
        if (offset + 4 > kPage)
            return {kPlain};  // its other half is on the next page
        std::memcpy(&word, page.bytes + offset, 4);
    }
    const Instruction i = riscv::decode(word);
    return {pieceOf(i), i.d, i.a, i.b, i.imm};
}

bool Cpu::slipsOut(const Decoded& code, std::uint32_t address) const
{
    if (code.piece < k_lui2 || (code.piece >= k_jal2 && code.piece <= k_jalr4))
        return false;
    const std::uint16_t part = partOf(address);
    const bool branches = code.piece >= k_beq2 && code.piece <= k_bgeu4;
    return partOf(address + 2 + 2 * ((code.piece - k_lui2) & 1U)) != part || (branches && partOf(address + static_cast<std::uint32_t>(code.imm)) != part);
}

void Cpu::run(const std::int64_t& target)
{
#define BRAMIX_PIECE(name) &&l_##name##2, &&l_##name##4,
    static const void* const kPieces[] = {&&undecoded, &&plain, &&end, BRAMIX_PIECES(BRAMIX_PIECE)};
#undef BRAMIX_PIECE
    lowestSp = UINT32_MAX;
    looped = false;
    // The registers of the machine are kept in local variables as far as that goes; whoever is called sees them in their places.
    std::int64_t at = cycle;
    std::int64_t count = 0;
    std::uint32_t* const r = x.data();
    const Decoded* i = nullptr;
    const Decoded* first = nullptr;
    std::uint32_t begin = 0;
    CodePage* page = nullptr;
    std::uint32_t seen = forgotten_;
    const auto here = [&] { return begin + 2 * static_cast<std::uint32_t>(i - first); };
    const auto settle = [&] {
        cycle = at;
        instructions += count;
        count = 0;
        pc = current = here();
        cycles_ = 1;
    };

    try {
    outer:
        if (at >= target) {
            cycle = at;
            instructions += count;
            return;
        }
        page = pageOf(pc);
        if (page == nullptr) {
            cycle = at;
            instructions += count;
            count = 0;
            current = pc;
            const std::uint32_t sp = x[2];
            step();
            at = cycle;
            if (x[2] != sp && x[2] < lowestSp)
                lowestSp = x[2];
            if (entered != 0 || returned || sleeping)
                return;
            if (codeTime != nullptr)
                codeTime->enter(partOf(pc), at);
            goto outer;
        }
        seen = forgotten_;
        begin = page->tag;
        first = page->code.data();
        i = first + (pc - begin) / 2;
        goto* kPieces[i->piece];

#define NEXT(bytes, spent)                 \
    do {                                   \
        at += (spent);                     \
        ++count;                           \
        i += (bytes) / 2;                  \
        if (at >= target) [[unlikely]]     \
            goto leave;                    \
        goto* kPieces[i->piece];           \
    } while (false)
// To an address: within the page, or by way of its table.
#define GO(to, spent)                                            \
    do {                                                         \
        const std::uint32_t goal = (to);                         \
        at += (spent);                                           \
        ++count;                                                 \
        if (goal - begin < kPage) [[likely]] {                   \
            i = first + (goal - begin) / 2;                      \
            if (at >= target) [[unlikely]]                       \
                goto leave;                                      \
            goto* kPieces[i->piece];                             \
        }                                                        \
        pc = goal;                                               \
        goto outer;                                              \
    } while (false)
// The same where it may lead to another part of the code.
#define JUMP(to, spent)                                          \
    do {                                                         \
        const std::uint32_t where = (to);                        \
        if (codeTime != nullptr)                                 \
            codeTime->enter(partOf(where), at + (spent));        \
        GO(where, spent);                                        \
    } while (false)
#define BOTH(name, body, spent)  \
    l_##name##2 : { body; }      \
    NEXT(2, spent);              \
    l_##name##4 : { body; }      \
    NEXT(4, spent)
#define S(n) static_cast<std::int32_t>(r[n])
#define U(value) static_cast<std::uint32_t>(value)

        BOTH(lui, r[i->d] = U(i->imm), 1);
        BOTH(auipc, r[i->d] = here() + U(i->imm), 1);
        BOTH(addi, r[i->d] = r[i->a] + U(i->imm), 1);
        BOTH(slti, r[i->d] = S(i->a) < i->imm ? 1 : 0, 1);
        BOTH(sltiu, r[i->d] = r[i->a] < U(i->imm) ? 1 : 0, 1);
        BOTH(xori, r[i->d] = r[i->a] ^ U(i->imm), 1);
        BOTH(ori, r[i->d] = r[i->a] | U(i->imm), 1);
        BOTH(andi, r[i->d] = r[i->a] & U(i->imm), 1);
        BOTH(slli, r[i->d] = r[i->a] << i->imm, 1);
        BOTH(srli, r[i->d] = r[i->a] >> i->imm, 1);
        BOTH(srai, r[i->d] = U(S(i->a) >> i->imm), 1);
        BOTH(add, r[i->d] = r[i->a] + r[i->b], 1);
        BOTH(sub, r[i->d] = r[i->a] - r[i->b], 1);
        BOTH(sll, r[i->d] = r[i->a] << (r[i->b] & 31U), 1);
        BOTH(slt, r[i->d] = S(i->a) < S(i->b) ? 1 : 0, 1);
        BOTH(sltu, r[i->d] = r[i->a] < r[i->b] ? 1 : 0, 1);
        BOTH(xor_, r[i->d] = r[i->a] ^ r[i->b], 1);
        BOTH(srl, r[i->d] = r[i->a] >> (r[i->b] & 31U), 1);
        BOTH(sra, r[i->d] = U(S(i->a) >> (r[i->b] & 31U)), 1);
        BOTH(or_, r[i->d] = r[i->a] | r[i->b], 1);
        BOTH(and_, r[i->d] = r[i->a] & r[i->b], 1);
        BOTH(mul, r[i->d] = r[i->a] * r[i->b], 1);
        BOTH(mulh, r[i->d] = U((std::int64_t{S(i->a)} * S(i->b)) >> 32), 1 + kMultiplyHigh);
        BOTH(mulhsu, r[i->d] = U((std::int64_t{S(i->a)} * static_cast<std::int64_t>(r[i->b])) >> 32), 1 + kMultiplyHigh);
        BOTH(mulhu, r[i->d] = U((std::uint64_t{r[i->a]} * r[i->b]) >> 32), 1 + kMultiplyHigh);
        BOTH(nop, , 1);
        BOTH(stack, (r[2] = r[i->a] + U(i->imm), lowestSp = r[2] < lowestSp ? r[2] : lowestSp), 1);

#define BRANCH(name, taken)                        \
    l_##name##2 : if (taken)                       \
        GO(here() + U(i->imm), 1 + kTakenBranch);  \
    NEXT(2, 1);                                    \
    l_##name##4 : if (taken)                       \
        GO(here() + U(i->imm), 1 + kTakenBranch);  \
    NEXT(4, 1)
        BRANCH(beq, r[i->a] == r[i->b]);
        BRANCH(bne, r[i->a] != r[i->b]);
        BRANCH(blt, S(i->a) < S(i->b));
        BRANCH(bge, S(i->a) >= S(i->b));
        BRANCH(bltu, r[i->a] < r[i->b]);
        BRANCH(bgeu, r[i->a] >= r[i->b]);

    l_jal2 : {
        if (i->imm == 0 && i->d == 0)
            goto loop;
        const std::uint32_t from = here();
        r[i->d] = from + 2;
        r[0] = 0;
        JUMP(from + U(i->imm), 1 + kJump);
    }
    l_jal4 : {
        if (i->imm == 0 && i->d == 0)
            goto loop;
        const std::uint32_t from = here();
        r[i->d] = from + 4;
        r[0] = 0;
        JUMP(from + U(i->imm), 1 + kJump);
    }
    l_jalr2 : {
        const std::uint32_t from = here(), to = (r[i->a] + U(i->imm)) & ~1U;
        r[i->d] = from + 2;
        r[0] = 0;
        JUMP(to, 1 + kTakenBranch);
    }
    l_jalr4 : {
        const std::uint32_t from = here(), to = (r[i->a] + U(i->imm)) & ~1U;
        r[i->d] = from + 4;
        r[0] = 0;
        JUMP(to, 1 + kTakenBranch);
    }

// From plain memory where the address is even; else slowly. Who is asked may have changed what has been decoded.
#define LOAD(name, type, size)                                                                      \
    l_##name##2 : l_##name##4 : {                                                                   \
        const std::uint32_t address = r[i->a] + U(i->imm);                                          \
        const std::uint8_t* from = (address & ((size)-1U)) == 0 ? map_.readable(address) : nullptr; \
        if (from != nullptr) [[likely]] {                                                           \
            type value;                                                                             \
            std::memcpy(&value, from, size);                                                        \
            r[i->d] = U(value);                                                                     \
        } else {                                                                                    \
            settle();                                                                               \
            r[i->d] = U(static_cast<type>(load(address, size)));                                    \
        }                                                                                           \
        goto loaded;                                                                                \
    }
        LOAD(lb, std::int8_t, 1)
        LOAD(lh, std::int16_t, 2)
        LOAD(lw, std::uint32_t, 4)
        LOAD(lbu, std::uint8_t, 1)
        LOAD(lhu, std::uint16_t, 2)
    loaded:
        at += 1 + kLoad;
        ++count;
        // An odd piece is one of four bytes.
        i += 1 + ((i->piece - k_lui2) & 1);
        if (at >= target || seen != forgotten_) [[unlikely]]
            goto leave;
        goto* kPieces[i->piece];

#define STORE(name, type, size)                                                                \
    l_##name##2 : l_##name##4 : {                                                              \
        const std::uint32_t address = r[i->a] + U(i->imm);                                     \
        std::uint8_t* to = (address & ((size)-1U)) == 0 ? map_.writable(address) : nullptr;    \
        const type value = static_cast<type>(r[i->b]);                                         \
        if (to != nullptr) [[likely]] {                                                        \
            std::memcpy(to, &value, size);                                                     \
        } else {                                                                               \
            settle();                                                                          \
            store(address, size, value);                                                       \
        }                                                                                      \
        goto stored;                                                                           \
    }
        STORE(sb, std::uint8_t, 1)
        STORE(sh, std::uint16_t, 2)
        STORE(sw, std::uint32_t, 4)
    stored:
        ++at;
        ++count;
        i += 1 + ((i->piece - k_lui2) & 1);
        if (at >= target || seen != forgotten_) [[unlikely]]
            goto leave;
        goto* kPieces[i->piece];

    undecoded:
        const_cast<Decoded&>(*i) = decodedAt(*page, here() - begin);
        if (codeTime != nullptr && slipsOut(*i, here()))
            const_cast<Decoded&>(*i).piece = kPlain;
        goto* kPieces[i->piece];

    plain: {
        settle();
        const std::uint32_t sp = x[2];
        step();
        at = cycle;
        if (x[2] != sp && x[2] < lowestSp)
            lowestSp = x[2];
        if (entered != 0 || returned || sleeping)
            return;
        if (codeTime != nullptr)
            codeTime->enter(partOf(pc), at);
        goto outer;
    }

    // A jump to itself waits until the slice ends.
    loop:
        if (leavesLoops) {
            at += 1 + kJump;
            ++count;
            settle();
            looped = true;
            return;
        }
        if (const std::int64_t times = (target - at + kJump) / (1 + kJump); times > 0) {
            at += times * (1 + kJump);
            count += times;
        }
        goto leave;

    end:
    leave:
        pc = here();
        goto outer;
    } catch (const Trap& t) {
        // As the stepper does.
        cycle += 1;
        trap(t.cause, t.value);
    }
}

}  // namespace bramix::chip::riscv
