#include "cli/part_choice.h"

#include "core/session/layer_role.h"

namespace gristle::cli {

using namespace core;

Result<PartChoice> choosePart(const SessionDocument& document, const std::string& songName, const std::string& partName,
                              const std::string& layerName)
{
    bool isPartThere = false;
    for (const Song& song : document.songs)
        for (const Part& part : song.parts) {
            if ((!songName.empty() && song.name != songName) || part.name != partName) continue;
            isPartThere = true;
            for (std::size_t i = 0; i < part.layers.size(); ++i)
                if (layerName.empty() ? !part.layers[i].takes.empty() && isPlayed(part.layers[i])
                                      : part.layers[i].name == layerName)
                    return PartChoice{&song, &part, i};
        }
    if (!isPartThere)
        return Error{ErrorCode::Usage, "part \"" + partName + "\": there is no such part", "see session info"};
    if (!layerName.empty())
        return Error{ErrorCode::Usage, "layer \"" + layerName + "\": there is no such layer in it", "see session info"};
    return Error{ErrorCode::FileMissing, "part \"" + partName + "\" has no take yet", "bring one in"};
}

} // namespace gristle::cli
