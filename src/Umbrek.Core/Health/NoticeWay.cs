namespace Umbrek.Core.Health;

/// <summary>How somebody is told.</summary>
public enum NoticeWay
{
    Mail,

    /// <summary>A web hook: a request to an address, for programs.</summary>
    Hook,
}

public enum DeliveryState
{
    /// <summary>To be tried, or tried again.</summary>
    Waiting,
    Delivered,

    /// <summary>Given up; a person may have it tried again.</summary>
    Failed,
}
