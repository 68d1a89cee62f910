#include "bench/new_bench.h"

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <filesystem>

#include <fmt/format.h>
#include <unistd.h>

#include "bench/document.h"
#include "chip/families.h"
#include "chip/family.h"

namespace bramix::bench {

using kernel::fail;

std::vector<const PartKind*> skeletonBoards(const Catalogue& catalogue)
{
    std::vector<const PartKind*> out;
    for (const auto& [id, kind] : catalogue.kinds())
        if (kind.listed && kind.chip != nullptr && !languagesOf(kind).empty())
            out.push_back(&kind);
    // Those of one family together, in the order of the families; the smaller one first.
    const auto rank = [](const PartKind* kind) {
        std::size_t n = 0;
        for (const chip::Device* d : chip::allDevices()) {
            if (d->family == kind->chip->family)
                break;
            ++n;
        }
        return n;
    };
    std::stable_sort(out.begin(), out.end(), [&](const PartKind* a, const PartKind* b) { return rank(a) != rank(b) ? rank(a) < rank(b) : a->pins.size() < b->pins.size(); });
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
    const auto languages = kind == nullptr ? std::vector<SourceLanguage>() : languagesOf(*kind);
    if (languages.empty())
        return fail(wanted.board, "is no board that a bench can begin with");
    if (std::find(languages.begin(), languages.end(), wanted.language) == languages.end())
        return fail(kind->title, "has no program to begin with in this language");
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
    const Skeleton skeleton = skeletonOf(wanted.language, wanted.name, slug, *kind);
    document.notes = "The firmware is firmware/" + skeleton.sourceName + "; make builds it. A change of the built file is loaded by itself.";
    PartItem board;
    board.id = "mcu";
    board.kind = kind->id;
    board.at = {12, 8};
    board.firmware = "firmware/" + slug + skeleton.image;
    document.parts.push_back(board);
    const std::string bench = (folder / "bench.toml").string();
    for (const auto& [name, text] : skeleton.others)
        if (auto saved = saveText((folder / "firmware" / name).string(), text); !saved)
            return tl::unexpected(saved.error());
    for (const auto& [file, text] : {std::pair((folder / "firmware" / skeleton.sourceName).string(), skeleton.source), std::pair((folder / "firmware" / "Makefile").string(), skeleton.makefile),
                                     std::pair(bench, writeDocument(document))})
        if (auto saved = saveText(file, text); !saved)
            return tl::unexpected(saved.error());
    return bench;
}

Result<BesideProgram> benchBesideProgram(const std::string& program, const Catalogue& catalogue)
{
    namespace fs = std::filesystem;
    std::error_code ec;
    const fs::path folder = fs::absolute(program, ec).parent_path();
    if (!fs::is_regular_file(program, ec))
        return fail(program, "is no file");
    BesideProgram out{(folder / "bench.toml").string()};
    if (fs::exists(out.bench, ec))
        return out;
    const auto boards = skeletonBoards(catalogue);
    const auto board = std::find_if(boards.begin(), boards.end(), [](const PartKind* kind) { return fitsFramework(*kind); });
    if (board == boards.end())
        return fail(program, "there is no board for such a program in the catalogue");
    std::string slug = folderName(fs::path(program).stem().string());
    if (slug.empty())
        slug = "program";
    Document document;
    document.title = fs::path(program).stem().string();
    document.notes = "The firmware is built from what lies in this folder; make builds it.";
    PartItem mcu;
    mcu.id = "mcu";
    mcu.kind = (*board)->id;
    mcu.at = {12, 8};
    mcu.firmware = slug + ".elf";
    document.parts.push_back(mcu);
    if (const std::string makefile = (folder / "Makefile").string(); !fs::exists(makefile, ec)) {
        if (auto saved = saveText(makefile, frameworkMakefile(slug, **board)); !saved)
            return tl::unexpected(saved.error());
        out.madeMakefile = true;
    }
    if (auto saved = saveText(out.bench, writeDocument(document)); !saved)
        return tl::unexpected(saved.error());
    return out;
}

namespace {

void look(std::vector<Tool>& tools)
{
    const char* const path = std::getenv("PATH");
    const std::string all = path == nullptr ? "" : path;
    for (Tool& tool : tools)
        for (std::size_t at = 0; at < all.size() && tool.path.empty();) {
            const std::size_t end = std::min(all.find(':', at), all.size());
            const std::string file = all.substr(at, end - at) + "/" + tool.program;
            if (::access(file.c_str(), X_OK) == 0)
                tool.path = file;
            at = end + 1;
        }
}

void add(std::vector<Tool>& tools, const chip::Device& device)
{
    for (const chip::BuildTool& tool : device.behaviour->tools)
        if (std::none_of(tools.begin(), tools.end(), [&](const Tool& t) { return t.program == tool.program; }))
            tools.push_back({std::string(tool.program), std::string(tool.packages), {}});
}

}  // namespace

std::vector<Tool> buildTools(const chip::Device& device)
{
    std::vector<Tool> out;
    add(out, device);
    out.push_back({"make", "make", {}});
    look(out);
    return out;
}

std::vector<Tool> buildTools()
{
    std::vector<Tool> out;
    for (const chip::Device* device : chip::allDevices())
        add(out, *device);
    out.push_back({"make", "make", {}});
    look(out);
    return out;
}

}  // namespace bramix::bench
