#include "ssh/config.hpp"

#include <fnmatch.h>
#include <glob.h>

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <sstream>

#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw {

namespace fs = std::filesystem;

namespace {

constexpr int kMostIncludes = 16;

std::string home() {
  const char* h = std::getenv("HOME");
  return h != nullptr ? h : "";
}

std::string withHome(const std::string& path) {
  return path.starts_with("~/") ? home() + path.substr(1) : path;
}

/// Words, with quotes.
std::vector<std::string> words(const std::string& text) {
  std::vector<std::string> out;
  std::string word;
  bool quoted = false, any = false;
  for (const char c : text) {
    if (c == '"') {
      quoted = !quoted;
      any = true;
    } else if (!quoted && (c == ' ' || c == '\t')) {
      if (any) out.push_back(word);
      word.clear();
      any = false;
    } else {
      word += c;
      any = true;
    }
  }
  if (any) out.push_back(word);
  return out;
}

std::vector<fs::path> globbed(const std::string& pattern) {
  glob_t found{};
  std::vector<fs::path> out;
  if (glob(pattern.c_str(), 0, nullptr, &found) == 0)
    for (std::size_t i = 0; i < found.gl_pathc; ++i) out.emplace_back(found.gl_pathv[i]);
  globfree(&found);
  return out;
}

std::string slurp(const fs::path& file) {
  std::ifstream in(file);
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

}  // namespace

bool matchesPatterns(const std::string& host, const std::vector<std::string>& patterns) {
  bool yes = false;
  for (const std::string& pattern : patterns) {
    const bool negated = pattern.starts_with("!");
    if (fnmatch(pattern.c_str() + (negated ? 1 : 0), host.c_str(), 0) != 0) continue;
    if (negated) return false;
    yes = true;
  }
  return yes;
}

fs::path SshConfig::usualFile() { return home() + "/.ssh/config"; }

SshConfig SshConfig::load(const fs::path& file) {
  SshConfig out;
  std::error_code failed;
  if (!fs::exists(file, failed)) return out;
  if (!std::ifstream(file)) throw Error(ErrorKind::Local, "this file cannot be read", file);
  out.read(slurp(file), file.parent_path(), file, 0, {"*"});
  return out;
}

SshConfig SshConfig::parse(const std::string& text, const fs::path& folder) {
  SshConfig out;
  out.read(text, folder, "configuration", 0, {"*"});
  return out;
}

void SshConfig::read(const std::string& text, const fs::path& folder, const std::string& name, int depth,
                     std::vector<std::string> patterns) {
  if (depth > kMostIncludes) throw Error(ErrorKind::Local, "files include each other without end", name);
  std::istringstream in(text);
  int number = 0;
  bool skipping = false;  // a Match block; its conditions are not evaluated
  for (std::string raw; std::getline(in, raw);) {
    ++number;
    const auto first = raw.find_first_not_of(" \t");
    if (first == std::string::npos || raw[first] == '#') continue;
    raw = raw.substr(first, raw.find_last_not_of(" \t\r") - first + 1);
    const auto end = raw.find_first_of(" \t=");
    const std::string key = lowered(raw.substr(0, end));
    const auto begin = end == std::string::npos ? end : raw.find_first_not_of(" \t=", end);
    const std::string value = begin == std::string::npos ? "" : raw.substr(begin);
    const std::vector<std::string> parts = words(value);
    if (parts.empty())
      throw Error(ErrorKind::Local, "line " + std::to_string(number) + ": \"" + key + "\" has no value",
                  name);
    if (key == "host") {
      skipping = false;
      patterns = parts;
      for (const std::string& p : parts)
        if (p.find_first_of("*?!") == std::string::npos &&
            std::find(hosts_.begin(), hosts_.end(), p) == hosts_.end())
          hosts_.push_back(p);
    } else if (key == "match") {
      skipping = lowered(parts[0]) != "all";
      patterns = {"*"};
    } else if (skipping) {
      continue;
    } else if (key == "include") {
      for (const std::string& part : parts) {
        const std::string path = withHome(part);
        for (const fs::path& file : globbed(path.starts_with("/") ? path : (folder / path).string()))
          read(slurp(file), file.parent_path(), file, depth + 1, patterns);
      }
    } else if (key == "port" &&
               (parts[0].size() > 5 || parts[0].find_first_not_of("0123456789") != std::string::npos)) {
      throw Error(ErrorKind::Local, "line " + std::to_string(number) + ": \"" + parts[0] + "\" is not a port",
                  name);
    } else {
      lines_.push_back({patterns, key, parts[0]});
    }
  }
}

SshHostConfig SshConfig::lookup(const std::string& host) const {
  SshHostConfig out;
  const auto set = [](std::string& to, const std::string& value) {
    if (to.empty()) to = value;
  };
  for (const Line& line : lines_) {
    if (!matchesPatterns(host, line.patterns)) continue;
    if (line.key == "hostname") set(out.hostName, line.value);
    if (line.key == "user") set(out.user, line.value);
    if (line.key == "proxyjump") set(out.proxyJump, line.value);
    if (line.key == "certificatefile") set(out.certificateFile, line.value);
    if (line.key == "port" && out.port == 0) out.port = std::stoi(line.value);
    if (line.key == "identityfile") out.identityFiles.push_back(line.value);
  }
  if (out.proxyJump == "none") out.proxyJump.clear();
  if (out.hostName.empty()) out.hostName = host;
  const auto filled = [&](std::string text, bool tokens) {
    text = withHome(text);
    std::string done;
    for (std::size_t i = 0; i < text.size(); ++i) {
      if (text[i] != '%' || i + 1 == text.size()) {
        done += text[i];
        continue;
      }
      const char c = text[++i];
      if (c == 'h')
        done += tokens ? out.hostName : host;
      else if (c == 'n')
        done += host;
      else if (c == 'p')
        done += std::to_string(out.port == 0 ? 22 : out.port);
      else if (c == 'r')
        done += out.user;
      else if (c == 'd')
        done += home();
      else
        done += c;
    }
    return done;
  };
  out.hostName = filled(out.hostName, false);
  out.certificateFile = filled(out.certificateFile, true);
  for (std::string& file : out.identityFiles) file = filled(file, true);
  return out;
}

std::vector<std::string> SshConfig::hosts() const { return hosts_; }

}  // namespace kw
