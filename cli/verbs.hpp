// The verbs of the command line; each adds itself to the parser and runs when chosen.
#pragma once
#include <CLI/CLI.hpp>
#include <functional>

namespace kw::cli {

/// Set by the verb that was chosen; main() runs it and turns errors into exit codes.
using Chosen = std::function<int()>;

void addSessionVerbs(CLI::App& app, Chosen& chosen);
void addTextVerbs(CLI::App& app, Chosen& chosen);
void addFileVerbs(CLI::App& app, Chosen& chosen);
void addMachineVerbs(CLI::App& app, Chosen& chosen);
void addTrustVerbs(CLI::App& app, Chosen& chosen);
void addHostVerbs(CLI::App& app, Chosen& chosen);
void addHostWorkVerbs(CLI::App& app, Chosen& chosen);
/// Behind addMachineVerbs().
void addExchangeVerbs(CLI::App& app, Chosen& chosen);
void addCredentialVerbs(CLI::App& app, Chosen& chosen);

}  // namespace kw::cli
