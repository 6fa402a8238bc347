using Umbrek.Cli.Hosting;

namespace Umbrek.Cli.Output;

/// <summary>Files that are there whole or not at all, and never take the place of another.</summary>
public static class WholeFile
{
    /// <returns>How many bytes it has.</returns>
    /// <exception cref="ClientException">It is there already, or can't be written.</exception>
    public static async Task<long> WriteAsync(string file, Func<Stream, Task> write)
    {
        var part = file + ".part";
        if (File.Exists(file))
        {
            throw new ClientException($"'{file}' exists; give another name.", ExitCodes.WrongUse);
        }
        try
        {
            await using (var target = new FileStream(part, FileMode.CreateNew))
            {
                try
                {
                    await write(target).ConfigureAwait(false);
                }
                catch
                {
                    File.Delete(part);
                    throw;
                }
            }
            File.Move(part, file);
            return new FileInfo(file).Length;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or HttpRequestException)
        {
            throw new ClientException($"'{file}' could not be written: {e.Message}");
        }
    }
}
