using Microsoft.AspNetCore.Identity;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Access;

/// <summary>A password must withstand guessing, whatever signs it is made of (estimated by zxcvbn), and not be made of its owner's name.</summary>
public sealed class PasswordStrength : IPasswordValidator<Technician>
{
    public const int MinLength = 12;

    /// <summary>Longer ones are hashed no better, and are long to estimate.</summary>
    public const int MaxLength = 256;

    /// <summary>"Safely unguessable": moderate protection from an offline attack on a slow hash.</summary>
    private const int LeastScore = 3;
    private const int Estimated = 72;

    /// <summary>Reading its word lists takes longer than anything else here, so it is done once.</summary>
    private static readonly Lazy<Zxcvbn.Zxcvbn> Estimator = new(() => new Zxcvbn.Zxcvbn());
    private static readonly Lock Gate = new();

    public Task<IdentityResult> ValidateAsync(UserManager<Technician> manager, Technician user, string? password) => Task.FromResult(Check(password ?? "", user.UserName ?? "") is { } problem
        ? IdentityResult.Failed(new IdentityError { Code = nameof(PasswordStrength), Description = problem })
        : IdentityResult.Success);

    /// <returns>Null, or what is wrong and what to do.</returns>
    public static string? Check(string password, string name)
    {
        if (password.Length < MinLength)
        {
            return $"The password has {password.Length} characters; it needs {MinLength} characters at least. Four words that nobody would guess together do well.";
        }
        if (password.Length > MaxLength)
        {
            return $"The password has {password.Length} characters; {MaxLength} is the most.";
        }
        Zxcvbn.Result estimate;
        lock (Gate)
        {
            estimate = Estimator.Value.EvaluatePassword(password.Length > Estimated ? password[..Estimated] : password, [.. name.Split(' ', StringSplitOptions.RemoveEmptyEntries), "umbrek"]);
        }
        return estimate.Score >= LeastScore ? null
            : $"The password is guessed too soon ({estimate.CrackTimeDisplay} for somebody who has stolen its hash). Four words that nobody would guess together do well.";
    }
}
