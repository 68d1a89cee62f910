#include "bench/new_bench.h"

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <filesystem>

#include <fmt/format.h>
#include <unistd.h>

#include "bench/document.h"

namespace bramix::bench {

namespace {

using kernel::fail;

// The pin that the board's own lamp hangs on.
std::string lampPin(const PartKind& kind)
{
    for (const PartKind::Join& join : kind.joins) {
        std::string own, inner;
        for (const std::string& pin : join.pins)
            (pin.find('.') == std::string::npos ? own : inner) = pin;
        if (inner.starts_with("lamp") && own.size() == 3 && own[0] == 'P')
            return own;
    }
    return "PB0";
}

std::string source(const std::string& name, const PartKind& kind)
{
    const std::string pin = lampPin(kind);
    return fmt::format(R"(// {0}, on a {1}. The lamp on {2} beats, and the serial line tells how often; a key that is typed comes back.
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <stdio.h>
#include <util/delay.h>

static int put(char c, FILE *stream)
{{
    (void)stream;
    while (!(UCSR0A & (1 << UDRE0)))
        ;
    UDR0 = c;
    return 0;
}}

static FILE serial = FDEV_SETUP_STREAM(put, NULL, _FDEV_SETUP_WRITE);

int main(void)
{{
    UBRR0 = F_CPU / 8 / 115200 - 1;
    UCSR0A = 1 << U2X0;
    UCSR0B = (1 << TXEN0) | (1 << RXEN0);
    stdout = &serial;
    DDR{3} |= 1 << {4};

    printf_P(PSTR("{0}\r\n"));
    for (unsigned beats = 1;; ++beats) {{
        PORT{3} |= 1 << {4};
        _delay_ms(60);
        PORT{3} &= ~(1 << {4});
        _delay_ms(940);
        printf_P(PSTR("beat %u\r\n"), beats);
        if (UCSR0A & (1 << RXC0))
            printf_P(PSTR("got %c\r\n"), UDR0);
    }}
}}
)",
                       name, kind.title, pin, pin[1], pin[2]);
}

std::string makefile(const std::string& slug, const PartKind& kind)
{
    return fmt::format("# Needs the Debian packages gcc-avr, avr-libc and make.\nCFLAGS = -mmcu={} -DF_CPU={}UL -std=gnu11 -Os -gdwarf-4 -Wall -Wextra\n\n{}.elf: main.c Makefile\n\tavr-gcc $(CFLAGS) -o $@ main.c\n\n"
                       "clean:\n\trm -f {}.elf\n",
                       kind.chip->id, kind.clockHz, slug, slug);
}

}  // namespace

std::vector<const PartKind*> skeletonBoards(const Catalogue& catalogue)
{
    std::vector<const PartKind*> out;
    for (const auto& [id, kind] : catalogue.kinds())
        if (kind.listed && kind.chip != nullptr && !kind.bridge.empty())
            out.push_back(&kind);
    // The smaller one first.
    std::stable_sort(out.begin(), out.end(), [](const PartKind* a, const PartKind* b) { return a->pins.size() < b->pins.size(); });
    return out;
}

std::string folderName(const std::string& name)
{
    std::string out;
    for (const char c : name) {
        if (std::isalnum(static_cast<unsigned char>(c)))
            out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
        else if (!out.empty() && out.back() != '-')
            out += '-';
    }
    while (!out.empty() && out.back() == '-')
        out.pop_back();
    return out;
}

Result<std::string> makeNewBench(const NewBench& wanted, const Catalogue& catalogue)
{
    namespace fs = std::filesystem;
    const PartKind* kind = catalogue.find(wanted.board);
    if (kind == nullptr || kind->chip == nullptr || kind->bridge.empty())
        return fail(wanted.board, "is no board that a bench can begin with");
    const std::string slug = folderName(wanted.name);
    if (slug.empty())
        return fail("name", "\"" + wanted.name + "\"; expected a name with letters or digits in it");
    for (const char c : wanted.name)
        if (c == '"' || c == '\\' || c == '%' || static_cast<unsigned char>(c) < ' ')
            return fail("name", "\"" + wanted.name + "\"; expected no quotes, backslashes, per cent signs or control characters");
    const fs::path folder = fs::path(wanted.folder) / slug;
    std::error_code ec;
    if (fs::exists(folder, ec))
        return fail(folder.string(), "is there already", "choose another name");
    fs::create_directories(folder / "firmware", ec);
    if (ec)
        return fail(folder.string(), "cannot be made: " + ec.message());
    Document document;
    document.title = wanted.name;
    document.notes = "The firmware is firmware/main.c; make builds it. A change of the built file is loaded by itself.";
    PartItem board;
    board.id = "mcu";
    board.kind = kind->id;
    board.at = {12, 8};
    board.firmware = "firmware/" + slug + ".elf";
    document.parts.push_back(board);
    const std::string bench = (folder / "bench.toml").string();
    for (const auto& [file, text] : {std::pair((folder / "firmware" / "main.c").string(), source(wanted.name, *kind)), std::pair((folder / "firmware" / "Makefile").string(), makefile(slug, *kind)),
                                     std::pair(bench, writeDocument(document))})
        if (auto saved = saveText(file, text); !saved)
            return tl::unexpected(saved.error());
    return bench;
}

std::vector<Tool> buildTools()
{
    std::vector<Tool> out{{"avr-gcc", "gcc-avr avr-libc", {}}, {"make", "make", {}}};
    const char* const path = std::getenv("PATH");
    const std::string all = path == nullptr ? "" : path;
    for (Tool& tool : out)
        for (std::size_t at = 0; at < all.size() && tool.path.empty();) {
            const std::size_t end = std::min(all.find(':', at), all.size());
            const std::string file = all.substr(at, end - at) + "/" + tool.program;
            if (::access(file.c_str(), X_OK) == 0)
                tool.path = file;
            at = end + 1;
        }
    return out;
}

}  // namespace bramix::bench
