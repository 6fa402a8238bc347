using Umbrek.Core.Access;

namespace Umbrek.Service.Enrolment;

/// <summary>The shell script behind an installer's one line: fetches the agent, checks it, and lets it install itself (POSIX.1-2017 sh).</summary>
public static class InstallScript
{
    /// <summary>
    /// The line for a terminal. The service's key is pinned (curl(1) --pinnedpubkey), so that no certificate authority is needed
    /// and nobody in between is believed.
    /// </summary>
    public static string Command(Uri service, byte[] keySha256, string secret) =>
        $"curl -fsS{Pin(service, keySha256)} '{Root(service)}/get/{secret}/install' | sudo sh";

    /// <summary>The script. One large file over a connection of its own comes faster by HTTP/1.1: HTTP/2 has nothing to share there, and cuts it into frames.</summary>
    public static string Text(Uri service, byte[] keySha256, string token, string groupPath, AccessKeyRule accessKey, AgentProgram agent)
    {
        var secret = token.Split('.')[0];
        var pin = service.Scheme == Uri.UriSchemeHttps ? $"--pinnedpubkey 'sha256//{Convert.ToBase64String(keySha256)}'" : "";
        return $$"""
            #!/bin/sh
            # Installs the Umbrek agent {{agent.Version}} and joins this computer to {{Comment(groupPath)}}.
            set -eu
            say() { printf '%s\n' "$*" >&2; }
            [ "$(id -u)" = 0 ] || { say "Installing needs root: write 'sudo sh' where you wrote 'sh'."; exit 1; }
            [ "$(uname -s) $(uname -m)" = "Linux x86_64" ] || { say "This agent is for Linux on 64-bit x86 processors; here is $(uname -s) on $(uname -m)."; exit 1; }
            work=$(mktemp -d)
            trap 'rm -rf "$work"' EXIT
            address='{{Root(service)}}/get/{{secret}}/agent'
            if command -v curl >/dev/null; then
              curl -fsSk --http1.1 {{pin}} -o "$work/umbrek-agent" "$address"
            else
              wget -q --no-check-certificate {{pin}} -O "$work/umbrek-agent" "$address"
            fi
            echo '{{agent.Sha256}}  '"$work/umbrek-agent" | sha256sum -c - >/dev/null 2>&1 || { say "The agent did not arrive whole. Nothing was changed; run the line again."; exit 1; }
            chmod 700 "$work/umbrek-agent"
            "$work/umbrek-agent" --version >/dev/null 2>&1 || { say "Programs can't be run from $work (is it mounted noexec?). Name a directory that allows it: sudo TMPDIR=/root sh"; exit 1; }
            "$work/umbrek-agent" install --service '{{Root(service)}}' --token '{{token}}' --access-key {{Word(accessKey)}} "$@"{{(accessKey == AccessKeyRule.AskAtInstall ? " </dev/tty" : "")}}

            """;
    }

    private static string Root(Uri service) => service.AbsoluteUri.TrimEnd('/');

    private static string Pin(Uri service, byte[] keySha256) =>
        service.Scheme == Uri.UriSchemeHttps ? $"k --pinnedpubkey 'sha256//{Convert.ToBase64String(keySha256)}'" : "";

    public static string Word(AccessKeyRule rule) => rule switch
    {
        AccessKeyRule.Generate => "generate",
        AccessKeyRule.AskAtInstall => "ask",
        _ => "none",
    };

    // A group's name holds no line break (Names.Clean), so that it can't leave the comment.
    private static string Comment(string groupPath) => groupPath;
}
