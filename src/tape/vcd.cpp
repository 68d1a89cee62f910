#include "tape/vcd.h"

#include <cerrno>
#include <cstring>
#include <map>

#include <fmt/format.h>

#include "kernel/files.h"

namespace bramix::tape {

namespace {

// Identifier codes: printable characters '!' to '~', as few as do.
std::string identifier(std::size_t index)
{
    std::string out;
    do {
        out += static_cast<char>('!' + index % 94);
        index /= 94;
    } while (index != 0);
    return out;
}

}  // namespace

char VcdWriter::symbol(State state)
{
    switch (state) {
    case 0: return '0';
    case 1: return '1';
    case 2: return 'z';
    default: return 'x';
    }
}

kernel::Result<std::unique_ptr<VcdWriter>> VcdWriter::create(const std::string& name, const std::vector<std::string>& names, const std::vector<State>& initial)
{
    std::FILE* file = std::fopen(name.c_str(), "w");
    if (file == nullptr)
        return kernel::fail(name, fmt::format("cannot be written: {}", std::strerror(errno)));
    std::unique_ptr<VcdWriter> out(new VcdWriter(file));
    kernel::putText(file, fmt::format("$version Bramix $end\n$timescale 1 ps $end\n"));
    std::map<std::string, std::vector<std::pair<std::string, std::size_t>>> scopes;
    for (std::size_t i = 0; i < names.size(); ++i) {
        out->codes_.push_back(identifier(i));
        const std::size_t point = names[i].find('.');
        if (point == std::string::npos)
            scopes["nets"].emplace_back(names[i], i);
        else
            scopes[names[i].substr(0, point)].emplace_back(names[i].substr(point + 1), i);
    }
    for (const auto& [scope, variables] : scopes) {
        kernel::putText(file, fmt::format("$scope module {} $end\n", scope));
        for (const auto& [variable, index] : variables)
            kernel::putText(file, fmt::format("$var wire 1 {} {} $end\n", out->codes_[index], variable));
        kernel::putText(file, fmt::format("$upscope $end\n"));
    }
    kernel::putText(file, fmt::format("$enddefinitions $end\n#0\n$dumpvars\n"));
    for (std::size_t i = 0; i < names.size(); ++i) {
        out->last_.push_back(symbol(initial[i]));
        kernel::putText(file, fmt::format("{}{}\n", out->last_[i], out->codes_[i]));
    }
    kernel::putText(file, fmt::format("$end\n"));
    return out;
}

VcdWriter::~VcdWriter()
{
    if (file_ != nullptr)
        std::fclose(file_);
}

void VcdWriter::change(std::size_t signal, Time at, State state)
{
    const char value = symbol(state);
    if (last_[signal] == value)
        return;
    last_[signal] = value;
    const std::int64_t time = at.time_since_epoch().count();
    if (time != time_) {
        time_ = time;
        kernel::putText(file_, fmt::format("#{}\n", time));
    }
    std::fputc(value, file_);
    std::fputs(codes_[signal].c_str(), file_);
    std::fputc('\n', file_);
}

bool VcdWriter::finish(Time at)
{
    if (at.time_since_epoch().count() > time_)
        kernel::putText(file_, fmt::format("#{}\n", at.time_since_epoch().count()));
    const bool good = std::ferror(file_) == 0;
    const bool closed = std::fclose(file_) == 0;
    file_ = nullptr;
    return good && closed;
}

}  // namespace bramix::tape
