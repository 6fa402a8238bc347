namespace Umbrek.Cli.Files;

/// <summary>Standard input, kept while it is sent: what was read of it once can't be read again when a line breaks.</summary>
internal sealed class InputFile : IDisposable
{
    /// <summary>How it is named on a command line.</summary>
    public const string Sign = "-";

    private readonly DirectoryInfo folder = Directory.CreateTempSubdirectory("umbrek-");

    public string Path => System.IO.Path.Combine(folder.FullName, "input");

    public static async Task<InputFile> ReadAsync(CancellationToken cancel)
    {
        var kept = new InputFile();
        try
        {
            await using var input = Console.OpenStandardInput();
            await using var file = new FileStream(kept.Path, FileMode.CreateNew, FileAccess.Write);
            await input.CopyToAsync(file, cancel).ConfigureAwait(false);
            return kept;
        }
        catch
        {
            kept.Dispose();
            throw;
        }
    }

    public void Dispose() => folder.Delete(recursive: true);
}
