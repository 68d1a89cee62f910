// Assembler programs for PIC controllers in tests, built by gputils.
#pragma once

#include "chip/cross_compiler.h"

namespace bramix::test::pic {

inline bool haveAssembler() { return isInstalled("gpasm") && isInstalled("gplink"); }

// An absolute program; the image's path, with its .cod beside it.
inline QString assemble(const QTemporaryDir& folder, const QString& device, const QString& source)
{
    const QString place = folderWith(folder, {{"program.asm", "        list p=" + device + "\n        include \"p" + device + ".inc\"\n        errorlevel -302, -305\n" + source + "\n        end\n"}});
    return runTool(place, "gpasm", {"-q", "program.asm"}) ? place + "/program.hex" : QString();
}

// Several relocatable ones, linked; with .cof and .cod beside it.
inline QString link(const QTemporaryDir& folder, const QString& device, const QMap<QString, QString>& sources)
{
    QMap<QString, QString> files;
    QStringList objects;
    for (auto s = sources.begin(); s != sources.end(); ++s)
        files[s.key() + ".asm"] = "        list p=" + device + "\n        include \"p" + device + ".inc\"\n        errorlevel -302, -305\n" + s.value() + "\n        end\n";
    const QString place = folderWith(folder, files);
    for (auto s = sources.begin(); s != sources.end(); ++s) {
        if (!runTool(place, "gpasm", {"-q", "-c", s.key() + ".asm"}))
            return {};
        objects << s.key() + ".o";
    }
    return runTool(place, "gplink", QStringList{"-q", "-c", "-o", "program.hex"} + objects) ? place + "/program.hex" : QString();
}

}  // namespace bramix::test::pic
