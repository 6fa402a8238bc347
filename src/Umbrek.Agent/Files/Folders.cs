using Umbrek.Core.Files;

namespace Umbrek.Agent.Files;

public static class Folders
{
    /// <summary>What is missing on the way to a folder, itself too, the outermost first.</summary>
    public static IReadOnlyCollection<FileName> Missing(IHostFiles files, FileName folder)
    {
        var missing = new Stack<FileName>();
        for (var at = folder; files.Find(at) is null && at.Text != "/"; at = at.Folder())
        {
            missing.Push(at);
        }
        return missing;
    }

    /// <summary>Makes a folder, and those that it lies in, where they are not there.</summary>
    public static void Make(IHostFiles files, IFileChanges changes, FileName folder)
    {
        foreach (var at in Missing(files, folder))
        {
            changes.MakeFolder(at);
        }
    }
}
